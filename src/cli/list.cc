// `undershelf list`: what was found, one line each.
#include <fmt/format.h>

#include <iostream>

#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "model/text.h"

namespace undershelf::cli {
namespace {

template <typename Value>
Json or_null(const std::optional<Value>& value) {
  return value ? Json(*value) : Json(nullptr);
}

Json to_json(const Row& row) {
  return {{"id", row.id},
          {"volume", or_null(row.volume)},
          {"path", row.path},
          {"path_exact", row.path_exact},
          {"name", row.name},
          {"kind", row.kind},
          {"stream", or_null(row.stream)},
          {"state", row.state},
          {"marked_deleted", row.marked_deleted},
          {"size", or_null(row.size)},
          {"created", json_time(row.created)},
          {"modified", json_time(row.modified)},
          {"accessed", json_time(row.accessed)},
          {"deleted", json_time(row.deleted)},
          {"original_path", or_null(row.original_path)},
          {"type", or_null(row.type)},
          {"rating", or_null(row.rating)},
          {"score", or_null(row.score)},
          {"intact_bytes", or_null(row.intact_bytes)},
          {"raw_name", row.raw_name.empty() ? Json(nullptr) : Json(to_hex(row.raw_name))}};
}

uint64_t print_table(const Shelf& shelf, const Selection& selection) {
  Table table({{"ID", Table::Align::right},
               {"STATE"},
               {"RATING"},
               {"SCORE", Table::Align::right},
               {"SIZE", Table::Align::right},
               {"MODIFIED"},
               {"PATH"}});
  uint64_t count = 0;
  each_row(shelf, selection, [&](const Row& row) {
    const bool folder = row.kind == "folder" && !row.stream;
    table.add({fmt::format("{}", row.id), row.state, row.rating.value_or(""),
               row.score ? fmt::format("{}", *row.score) : "",
               row.size_known() ? table_size(*row.size) : "", table_time(row.modified),
               row.path + (folder ? "/" : "")});
    ++count;
    return true;
  });
  if (count > 0) table.print();
  return count;
}

}  // namespace

int run_list(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  options.add_options()("format", po::value<std::string>()->value_name("FORMAT"),
                        "table (the default), csv or jsonl")("count", "only how many there are");
  add_filters(options);
  const CommandLine line(self, options, {"SHELF"}, arguments);
  if (line.help_given()) return kDone;
  const std::string format = read_format(line, {"table", "csv", "jsonl"});
  const std::string path = line.text("SHELF");
  const Shelf shelf = Shelf::open_to_read(path);
  const Selection selection = read_filters(line, shelf);
  if (line.has("count")) {
    std::cout << count_rows(shelf, selection) << '\n';
    return kDone;
  }
  uint64_t count = 0;
  if (format == "table") {
    count = print_table(shelf, selection);
  } else {
    CsvPrinter csv;
    if (format == "csv") csv.header(to_json({}));
    each_row(shelf, selection, [&](const Row& row) {
      if (format == "csv") {
        csv.print(to_json(row));
      } else {
        print_json(to_json(row));
      }
      ++count;
      return true;
    });
  }
  if (count == 0) {
    say("Nothing in the shelf fits these filters.");
  } else {
    next_step(fmt::format("undershelf show {} ID", shell_quoted(path)));
  }
  return kDone;
}

}  // namespace undershelf::cli
