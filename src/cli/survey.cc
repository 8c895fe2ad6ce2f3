// `undershelf survey`: what is on a source.
#include "scan/survey.h"

#include <fmt/format.h>

#include <iostream>

#include "cli/command.h"
#include "cli/filters.h"
#include "cli/in_use.h"
#include "cli/output.h"
#include "scan/inspect.h"

namespace undershelf::cli {
namespace {

// What else lies in a part that no reader of ours recognised.
std::string other_system(const Partition& partition, const Survey& found, const std::string& path,
                         uint64_t skip) {
  if (partition.container || found.has_volume_in(partition.number)) return {};
  return name_of_other_system(path, {partition.range.offset + skip, partition.range.length});
}

Json partition_json(const Partition& partition, const Survey& found, const std::string& other) {
  return {{"record", "partition"},
          {"number", partition.number},
          {"type", partition.type},
          {"offset", partition.range.offset},
          {"length", partition.range.length},
          {"name", partition.name},
          {"bootable", partition.bootable},
          {"recognised", found.has_volume_in(partition.number)},
          {"other_system", other}};
}

Json volume_json(const FoundVolume& found, const SpaceSample& space) {
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
          {"used", used_bytes(*found.reader)},
          {"confidence", v.confidence},
          {"lost_sampled", space.lost.sampled},
          {"lost_blank", space.lost.blank},
          {"free_sampled", space.free.sampled},
          {"free_blank", space.free.blank},
          {"meaning", meaning_of(space)},
          {"notes", v.notes}};
}

Json device_json(const DeviceFacts& device, const SourceUse& use) {
  return {{"model", device.model},
          {"removable", device.removable},
          {"rotating", device.rotating},
          {"discards", device.discards},
          {"mounted_for_writing", use.mounted_for_writing},
          {"mounted_for_reading", use.mounted_for_reading},
          {"swap", use.swap},
          {"holders", use.holders}};
}

void print_device(const DeviceFacts& device, const SourceUse& use) {
  const auto field = [](const char* label, const std::string& value) {
    if (!value.empty()) std::cout << fmt::format("{:<12} {}\n", label, value);
  };
  std::cout << '\n';
  field("model", device.model);
  field("medium", fmt::format("{}, {}, {}", device.removable ? "removable" : "fixed",
                              device.rotating ? "rotating" : "not rotating",
                              device.discards ? "takes discards" : "takes no discards"));
  field("mounted rw", fmt::format("{}", fmt::join(use.mounted_for_writing, ", ")));
  field("mounted ro", fmt::format("{}", fmt::join(use.mounted_for_reading, ", ")));
  field("swap", fmt::format("{}", fmt::join(use.swap, ", ")));
  field("in use by", fmt::format("{}", fmt::join(use.holders, ", ")));
}

std::string scheme_text(const Layout& layout) {
  if (layout.scheme == "none") return "none";
  const char* name = layout.scheme == "mbr"   ? "MBR"
                     : layout.scheme == "gpt" ? "GPT"
                                              : "Apple partition map";
  return fmt::format("{}, in sectors of {} bytes", name, layout.sector_size);
}

std::string recognised_text(const Partition& partition, const Survey& found,
                            const std::string& path, uint64_t skip) {
  if (partition.container) {
    return found.layout.scheme == "apm" ? "holds no volume" : "holds the logical volumes";
  }
  if (found.has_volume_in(partition.number)) return "yes";
  const std::string other = other_system(partition, found, path, skip);
  return other.empty() ? "no" : fmt::format("as {}, which is not read here", other);
}

void print_space(const FoundVolume& volume, const Source& source) {
  const SpaceSample space = sample_space(*volume.reader, source);
  std::cout << fmt::format(
      "\nvolume at byte {}: {} of {} places of lost files and {} of {} of free space read as "
      "blank.\n",
      volume.reader->volume().offset, space.lost.blank, space.lost.sampled, space.free.blank,
      space.free.sampled);
  if (const std::string meaning = meaning_of(space); !meaning.empty()) std::cout << meaning << '\n';
}

void print_table(const std::string& path, uint64_t skip, const Source& source,
                 const Survey& found) {
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
                 recognised_text(p, found, path, skip)});
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
                 table_size(used_bytes(*volume.reader)), table_size(v.cluster_size),
                 fmt::format("{}", v.confidence)});
    }
    table.print();
  }
  for (const FoundVolume& volume : found.volumes) print_space(volume, source);
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
  const uint64_t skip = read_bytes(line, "offset", 0);
  const SourcePtr source = open_source(path, skip);
  const std::optional<DeviceFacts> device = examine_device(path);
  const SourceUse use = use_of(path);
  const Survey found = survey(source, {});
  if (format == "jsonl") {
    print_json({{"record", "source"},
                {"path", path},
                {"size", source->size()},
                {"sector_size", source->sector_size()},
                {"scheme", found.layout.scheme},
                {"device", device ? device_json(*device, use) : Json(nullptr)},
                {"notes", found.layout.notes}});
    for (const Partition& p : found.layout.partitions) {
      print_json(partition_json(p, found, other_system(p, found, path, skip)));
    }
    for (const FoundVolume& volume : found.volumes) {
      print_json(volume_json(volume, sample_space(*volume.reader, *source)));
    }
  } else {
    print_table(path, skip, *source, found);
    if (device) print_device(*device, use);
  }
  warn_of_use(path, use);
  const std::optional<std::string> container = container_advice(*source);
  if (container) say(*container);
  if (found.volumes.empty() && !container) {
    const std::string other = name_of_other_system(path, {skip, source->size()});
    if (!other.empty()) say(fmt::format("This looks like {}, which is not read here.", other));
    say("No file system that this version reads was recognised.");
    next_step("check that this is an image of the whole medium or of one partition.");
  } else {
    next_step(fmt::format("undershelf scan {} --shelf FILE", shell_quoted(path)));
  }
  return kDone;
}

}  // namespace undershelf::cli
