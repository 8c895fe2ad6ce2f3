// `undershelf list`: what was found, one line each.
#include <fmt/format.h>

#include <iostream>

#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "model/text.h"
#include "shelf/totals.h"

namespace undershelf::cli {
namespace {

// Prints a table; the first rows tell whether it has to be narrow.
uint64_t print_table(const Shelf& shelf, const Selection& selection, const ShownZone& zone) {
  // Where there is little room, a day says enough of when.
  constexpr size_t kNarrow = 100;
  constexpr size_t kDay = 10;
  const bool narrow = output_width() < kNarrow;
  if (zone.name != "UTC") std::cout << "Times are those of " << printable(zone.name) << ".\n";
  Table table({{"ID", Table::Align::right},
               {"STATE"},
               {"RATING"},
               {"SIZE", Table::Align::right},
               {zone.name == "UTC" && !narrow ? "MODIFIED (UTC)" : "MODIFIED"},
               {"PATH", Table::Align::left, true}});
  uint64_t count = 0;
  each_row(shelf, selection, [&](const Row& row) {
    const std::string time = table_time(row.modified, zone.zone);
    table.add({fmt::format("{}", row.id), row.state, table_rating(row.rating, row.score),
               row.size ? table_size(*row.size) : "", narrow ? time.substr(0, kDay) : time,
               row.path + (row.is_folder() ? "/" : "")});
    ++count;
    return true;
  });
  if (count > 0) table.print();
  return count;
}

void print_totals(const Totals& totals, const std::string& format) {
  if (format == "table") {
    std::cout << fmt::format("files    {}\nfolders  {}\nstreams  {}\nbytes    {}\n", totals.files,
                             totals.folders, totals.streams, totals.bytes);
    return;
  }
  RowPrinter printer(format);
  const auto add = [&](Line& line) {
    line.count("files", totals.files);
    line.count("folders", totals.folders);
    line.count("streams", totals.streams);
    line.count("bytes", totals.bytes);
  };
  printer.header(add);
  printer.print(add);
}

}  // namespace

void tell_left_out(const Shelf& shelf, Selection selection) {
  if (!selection.limit) return;
  const uint64_t limit = *selection.limit;
  selection.limit.reset();
  const Totals all = total_rows(shelf, selection);
  const uint64_t rows = all.content() + all.folders;
  if (rows > limit) say(fmt::format("{} more fit; --limit left them out.", rows - limit));
}

int run_list(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  options.add_options()("format", po::value<std::string>()->value_name("FORMAT"),
                        "table (the default), csv or jsonl")(
      "count", "only how many files, folders and bytes there are");
  add_filters(options);
  const CommandLine line(self, options, {"SHELF"}, arguments);
  if (line.help_given()) return kDone;
  const std::string format = read_format(line, {"table", "csv", "jsonl"});
  const std::string path = line.text("SHELF");
  const Shelf shelf = Shelf::open_to_read(path);
  const Selection selection = read_filters(line, shelf);
  if (line.has("count")) {
    print_totals(total_rows(shelf, selection), format);
    return kDone;
  }
  uint64_t count = 0;
  if (format == "table") {
    count = print_table(shelf, selection, read_zone(line, shelf));
  } else {
    RowPrinter printer(format);
    printer.header([](Line& names) { add_fields(names, Row{}); });
    each_row(shelf, selection, [&](const Row& row) {
      printer.print([&](Line& fields) { add_fields(fields, row); });
      ++count;
      return true;
    });
  }
  if (count == 0) {
    say(selection.duplicates
            ? "Nothing in the shelf fits these filters. Files are compared by the hashes that "
              "`scan "
              "--check full` takes of lost files, and --check-living of the others."
            : "Nothing in the shelf fits these filters.");
    return kDone;
  }
  tell_left_out(shelf, selection);
  next_step(fmt::format("undershelf export {} --to DIR{}", quoted_path(path), filters_again(line)));
  return kDone;
}

}  // namespace undershelf::cli
