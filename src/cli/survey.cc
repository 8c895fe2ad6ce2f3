// `undershelf survey`: what is on a source.
#include "scan/survey.h"

#include <fmt/format.h>

#include <iostream>

#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "source/device.h"

namespace undershelf::cli {
namespace {

Json partition_json(const Partition& partition, const Survey& found) {
  return {{"record", "partition"},
          {"number", partition.number},
          {"type", partition.type},
          {"offset", partition.range.offset},
          {"length", partition.range.length},
          {"name", partition.name},
          {"bootable", partition.bootable},
          {"recognised", found.has_volume_in(partition.number)}};
}

Json volume_json(const FoundVolume& found) {
  const Volume& v = found.reader->volume();
  return {{"record", "volume"},
          {"partition", found.partition == 0 ? Json(nullptr) : Json(found.partition)},
          {"file_system", v.file_system},
          {"label", v.label},
          {"serial", v.serial},
          {"offset", v.offset},
          {"length", v.length},
          {"sector_size", v.sector_size},
          {"cluster_size", v.cluster_size},
          {"used", found.reader->used_bytes()},
          {"confidence", v.confidence},
          {"notes", v.notes}};
}

Json device_json(const DeviceFacts& device) {
  return {{"model", device.model},
          {"removable", device.removable},
          {"rotating", device.rotating},
          {"discards", device.discards},
          {"mounted_for_writing", device.mounted_for_writing},
          {"mounted_for_reading", device.mounted_for_reading},
          {"swap", device.swap},
          {"holders", device.holders}};
}

void print_device(const DeviceFacts& device) {
  const auto field = [](const char* label, const std::string& value) {
    if (!value.empty()) std::cout << fmt::format("{:<12} {}\n", label, value);
  };
  std::cout << '\n';
  field("model", device.model);
  field("medium", fmt::format("{}, {}, {}", device.removable ? "removable" : "fixed",
                              device.rotating ? "rotating" : "not rotating",
                              device.discards ? "takes discards" : "takes no discards"));
  field("mounted rw", fmt::format("{}", fmt::join(device.mounted_for_writing, ", ")));
  field("mounted ro", fmt::format("{}", fmt::join(device.mounted_for_reading, ", ")));
  field("swap", fmt::format("{}", fmt::join(device.swap, ", ")));
  field("in use by", fmt::format("{}", fmt::join(device.holders, ", ")));
}

std::string scheme_text(const Layout& layout) {
  if (layout.scheme == "none") return "none";
  return fmt::format("{}, in sectors of {} bytes", layout.scheme == "mbr" ? "MBR" : "GPT",
                     layout.sector_size);
}

std::string recognised_text(const Partition& partition, const Survey& found) {
  if (partition.container) return "holds the logical volumes";
  return found.has_volume_in(partition.number) ? "yes" : "no";
}

void print_table(const std::string& path, const Source& source, const Survey& found) {
  std::cout << fmt::format("source  {}\nsize    {} ({} bytes), sectors of {} bytes\nmap     {}\n",
                           path, table_size(source.size()), source.size(), source.sector_size(),
                           scheme_text(found.layout));
  if (!found.layout.partitions.empty()) {
    std::cout << '\n';
    Table table({{"PARTITION", Table::Align::right},
                 {"MAP SAYS"},
                 {"OFFSET", Table::Align::right},
                 {"SIZE", Table::Align::right},
                 {"RECOGNISED"}});
    for (const Partition& p : found.layout.partitions) {
      table.add({fmt::format("{}", p.number), p.name.empty() ? p.type : p.type + ", " + p.name,
                 fmt::format("{}", p.range.offset), table_size(p.range.length),
                 recognised_text(p, found)});
    }
    table.print();
  }
  if (!found.volumes.empty()) {
    std::cout << '\n';
    Table table({{"FILE SYSTEM"},
                 {"LABEL"},
                 {"OFFSET", Table::Align::right},
                 {"SIZE", Table::Align::right},
                 {"USED", Table::Align::right},
                 {"CLUSTER", Table::Align::right},
                 {"CONFIDENCE", Table::Align::right}});
    for (const FoundVolume& volume : found.volumes) {
      const Volume& v = volume.reader->volume();
      table.add({v.file_system, v.label, fmt::format("{}", v.offset), table_size(v.length),
                 table_size(volume.reader->used_bytes()), table_size(v.cluster_size),
                 fmt::format("{}", v.confidence)});
    }
    table.print();
  }
  for (const std::string& note : found.layout.notes) std::cout << "\nnote: " << note;
  for (const FoundVolume& volume : found.volumes) {
    for (const std::string& note : volume.reader->volume().notes) std::cout << "\nnote: " << note;
  }
  const bool notes =
      !found.layout.notes.empty() || std::ranges::any_of(found.volumes, [](const FoundVolume& v) {
        return !v.reader->volume().notes.empty();
      });
  if (notes) std::cout << '\n';
}

}  // namespace

int run_survey(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  options.add_options()("format", po::value<std::string>()->value_name("FORMAT"),
                        "table (the default) or jsonl")  //
      ("offset", po::value<std::string>()->value_name("N"),
       "leave out so many bytes at the start of the source");
  const CommandLine line(self, options, {"SOURCE"}, arguments);
  if (line.help_given()) return kDone;
  const std::string format = read_format(line, {"table", "jsonl"});
  const std::string path = line.text("SOURCE");
  const SourcePtr source = open_source(path, read_bytes(line, "offset", 0));
  const std::optional<DeviceFacts> device = examine_device(path);
  const Survey found = survey(source, {});
  if (format == "jsonl") {
    print_json({{"record", "source"},
                {"path", path},
                {"size", source->size()},
                {"sector_size", source->sector_size()},
                {"scheme", found.layout.scheme},
                {"device", device ? device_json(*device) : Json(nullptr)},
                {"notes", found.layout.notes}});
    for (const Partition& p : found.layout.partitions) print_json(partition_json(p, found));
    for (const FoundVolume& volume : found.volumes) print_json(volume_json(volume));
  } else {
    print_table(path, *source, found);
    if (device) print_device(*device);
  }
  if (device && !device->mounted_for_writing.empty()) {
    warn(fmt::format("WARNING: {} is mounted for writing at {}. Unmount it before anything else.",
                     path, device->mounted_for_writing.front()));
  }
  if (found.volumes.empty()) {
    say("No file system that this version reads was recognised.");
    next_step("check that this is an image of the whole medium or of one partition.");
  } else {
    next_step(fmt::format("undershelf scan {} --shelf FILE", shell_quoted(path)));
  }
  return kDone;
}

}  // namespace undershelf::cli
