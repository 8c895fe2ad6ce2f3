// `undershelf volumes`: the volumes in a shelf.
#include <fmt/format.h>

#include <iostream>

#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"

namespace undershelf::cli {
namespace {

Json to_json(const VolumeRecord& record) {
  const Volume& v = record.volume;
  return {{"id", record.id},
          {"file_system", v.file_system},
          {"standing", v.standing},
          {"label", v.label},
          {"offset", v.offset},
          {"length", v.length},
          {"sector_size", v.sector_size},
          {"cluster_size", v.cluster_size},
          {"confidence", v.confidence},
          {"live", record.live},
          {"deleted", record.deleted},
          {"former", record.former},
          {"inside", record.inside ? Json(*record.inside) : Json(nullptr)},
          {"notes", v.notes}};
}

void print_table(const std::vector<VolumeRecord>& volumes) {
  Table table({{"ID", Table::Align::right},
               {"FILE SYSTEM"},
               {"STANDING"},
               {"LABEL"},
               {"OFFSET", Table::Align::right},
               {"SIZE", Table::Align::right},
               {"CLUSTER", Table::Align::right},
               {"CONFIDENCE", Table::Align::right},
               {"LIVE", Table::Align::right},
               {"DELETED", Table::Align::right},
               {"FORMER", Table::Align::right}});
  for (const VolumeRecord& record : volumes) {
    const Volume& v = record.volume;
    table.add({fmt::format("{}", record.id), v.file_system, v.standing, v.label,
               fmt::format("{}", v.offset), table_size(v.length), table_size(v.cluster_size),
               fmt::format("{}", v.confidence), fmt::format("{}", record.live),
               fmt::format("{}", record.deleted), fmt::format("{}", record.former)});
  }
  table.print();
  for (const VolumeRecord& record : volumes) {
    if (record.inside) {
      std::cout << fmt::format("note on volume {}: It lies inside the lost file with id {}.\n",
                               record.id, *record.inside);
    }
    for (const std::string& note : record.volume.notes) {
      std::cout << fmt::format("note on volume {}: {}\n", record.id, note);
    }
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
    print_table(volumes);
  } else {
    CsvPrinter csv;
    if (format == "csv") csv.header(to_json({}));
    for (const VolumeRecord& record : volumes) {
      if (format == "csv") {
        csv.print(to_json(record));
      } else {
        print_json(to_json(record));
      }
    }
  }
  const std::vector<ScanRecord> scans = shelf.scans();
  if (scans.empty() || scans.back().state != "finished") {
    say("The scan that made this shelf has not finished; `undershelf scan` goes on with it.");
  }
  for (const std::string& damage : shelf.damage_sentences(10)) say("Damage: " + damage);
  if (const uint64_t count = shelf.damage_count(); count > 10) {
    say(fmt::format("Damage: and {} places more.", count - 10));
  }
  next_step(fmt::format("undershelf tree {}", shell_quoted(path)));
  return kDone;
}

}  // namespace undershelf::cli
