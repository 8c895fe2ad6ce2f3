// `undershelf volumes`: the volumes in a shelf.
#include <fmt/format.h>

#include <iostream>

#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "fs/fs.h"

namespace undershelf::cli {
namespace {

void add_volume(Line& line, const VolumeRecord& record) {
  const Volume& v = record.volume;
  const auto number = [&](const char* name, uint64_t value) {
    line.number(name, static_cast<int64_t>(value));
  };
  line.number("id", number_of(record.id));
  line.text("file_system", v.file_system);
  line.text("standing", v.standing);
  line.text("label", v.label);
  line.text("serial", v.serial);
  number("offset", v.offset);
  number("length", v.length);
  number("sector_size", v.sector_size);
  number("cluster_size", v.cluster_size);
  line.number("used", v.used);
  line.number("confidence", v.confidence);
  line.number("live", record.live);
  line.number("deleted", record.deleted);
  line.number("former", record.former);
  line.number("inside", record.space != SpaceId::source ? image_of(record.space) : record.inside);
  line.list("notes", v.notes);
}

void print_table(const std::vector<VolumeRecord>& volumes) {
  Table table({{"ID", Table::Align::right},
               {"SYSTEM"},
               {"STANDING"},
               {"LABEL", Table::Align::left, true},
               {"OFFSET", Table::Align::right},
               {"SIZE", Table::Align::right},
               {"SURE", Table::Align::right},
               {"LIVE", Table::Align::right},
               {"DELETED", Table::Align::right},
               {"FORMER", Table::Align::right}});
  for (const VolumeRecord& record : volumes) {
    const Volume& v = record.volume;
    table.add({fmt::format("{}", record.id), spelled(v.file_system), v.standing, v.label,
               fmt::format("{}", v.offset), table_size(v.length), fmt::format("{} %", v.confidence),
               fmt::format("{}", record.live), fmt::format("{}", record.deleted),
               fmt::format("{}", record.former)});
  }
  table.print();
  for (const VolumeRecord& record : volumes) {
    const std::string of = fmt::format("volume {}: ", record.id);
    if (record.inside) {
      print_line(fmt::format("{}It lies inside the lost file with id {}.", of, *record.inside), 2);
    }
    if (record.space != SpaceId::source) {
      print_line(fmt::format("{}It lies on {}: places count from the beginning of that file.", of,
                             disk_image(record.space)),
                 2);
    }
    for (const std::string& note : record.volume.notes) print_line(of + note, 2);
  }
}

}  // namespace

int run_volumes(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  options.add_options()("format", po::value<std::string>()->value_name("FORMAT"),
                        "table (the default), csv or jsonl");
  const CommandLine line(self, options, {"SHELF"}, arguments);
  if (line.help_given()) return kDone;
  const std::string format = read_format(line, {"table", "csv", "jsonl"});
  const std::string path = line.text("SHELF");
  const Shelf shelf = Shelf::open_to_read(path);
  const std::vector<VolumeRecord> volumes = shelf.volumes();
  if (format == "table") {
    if (!volumes.empty()) print_table(volumes);
  } else {
    RowPrinter printer(format);
    printer.header([](Line& names) { add_volume(names, {}); });
    for (const VolumeRecord& record : volumes) {
      printer.print([&](Line& fields) { add_volume(fields, record); });
    }
  }
  const std::vector<ScanRecord> scans = shelf.scans();
  if (scans.empty() || scans.back().state != "finished") {
    say("The scan that made this shelf has not finished; `undershelf scan` goes on with it.");
  }
  constexpr uint64_t kMostTold = 10;
  for (const std::string& damage : shelf.damage_sentences(kMostTold)) say("Damage: " + damage);
  if (const uint64_t count = shelf.damage_count(); count > kMostTold) {
    say(fmt::format("Damage: and {} places more; the shelf's table `damage` has them all.",
                    count - kMostTold));
  }
  if (volumes.empty()) {
    say("The shelf holds no volume: none was found.");
    return kDone;
  }
  next_step(fmt::format("undershelf tree {}", quoted_path(path)));
  return kDone;
}

}  // namespace undershelf::cli
