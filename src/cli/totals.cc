// `undershelf totals`: how much there is of what, and what is to be expected of it.
#include "shelf/totals.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <functional>

#include "cli/command.h"
#include "cli/filters.h"
#include "cli/output.h"
#include "model/text.h"

namespace undershelf::cli {
namespace {

// What a group is called in a table.
std::string shown_value(const Group& group, By by) {
  if (by == By::volume) return group.volume ? fmt::format("{}", *group.volume) : "on none";
  if (by == By::folder) {
    const std::string path = group.value.empty() ? "/" : group.value + "/";
    return group.volume ? fmt::format("{}: {}", *group.volume, path) : path;
  }
  return group.value.empty() ? "none" : group.value;
}

void print_table(const std::vector<Group>& groups, size_t shown, By by, const std::string& title) {
  using Align = Table::Align;
  Group sum;
  for (const Group& group : groups) sum.add(group);
  const bool streams = sum.totals.streams > 0;
  std::vector<Table::Column> columns = {{title, Align::left, true}, {"FILES", Align::right}};
  if (streams) columns.push_back({"STREAMS", Align::right});
  for (const char* name : {"BYTES", "WHOLE", "LIKELY", "PARTIAL", "GONE", "EXPECTED"}) {
    columns.push_back({name, Align::right});
  }
  Table table(columns);
  const auto add = [&](const std::string& value, const Group& group, uint64_t expected) {
    std::vector<std::string> cells = {value, fmt::format("{}", group.totals.files)};
    if (streams) cells.push_back(fmt::format("{}", group.totals.streams));
    cells.push_back(table_size(group.totals.bytes));
    for (const uint64_t count : {group.whole, group.likely, group.partial, group.gone}) {
      cells.push_back(fmt::format("{}", count));
    }
    cells.push_back(fmt::format("{}", expected));
    table.add(cells);
  };
  const std::vector<uint64_t> expected = whole_expectations(groups);
  for (size_t i = 0; i < shown; ++i) add(shown_value(groups[i], by), groups[i], expected[i]);
  add("in all", sum, static_cast<uint64_t>(std::llround(sum.expected)));
  table.print();
}

}  // namespace

int run_totals(const Command& self, const std::vector<std::string>& arguments) {
  po::options_description options("Options");
  std::string known;
  for (const std::string& name : by_names()) known += (known.empty() ? "" : ", ") + name;
  options.add_options()("by", po::value<std::string>()->value_name("FIELD"),
                        ("what to count by: " + known + "; type if not given").c_str())(
      "format", po::value<std::string>()->value_name("FORMAT"),
      "table (the default), csv or jsonl");
  add_filters(options, Sorted::no);
  const CommandLine line(self, options, {"SHELF"}, arguments);
  if (line.help_given()) return kDone;
  const std::string format = read_format(line, {"table", "csv", "jsonl"});
  const std::string field = line.has("by") ? line.text("by") : "type";
  require_known("--by", field, by_names());
  const By by = by_named(field);
  const std::string path = line.text("SHELF");
  const Shelf shelf = Shelf::open_to_read(path);
  Selection selection = read_filters(line, shelf);
  // A limit is one of lines here.
  const std::optional<uint64_t> limit = std::exchange(selection.limit, std::nullopt);
  const ShownZone zone = read_zone(line, shelf);
  const std::vector<Group> groups = total_by(shelf, selection, by, zone.zone);
  if (groups.empty()) {
    say("Nothing in the shelf fits these filters.");
    return kDone;
  }
  const size_t shown = std::min<uint64_t>(groups.size(), limit.value_or(UINT64_MAX));
  if (format == "table") {
    std::string title = field;
    std::ranges::transform(title, title.begin(), [](char c) { return std::toupper(c); });
    if (by == By::day) title += fmt::format(" OF CHANGE ({})", printable(zone.name));
    print_table(groups, shown, by, title);
    say("EXPECTED: how many come back byte for byte, by the chances of each (docs/rating.md).");
  } else {
    RowPrinter printer(format);
    printer.header([&](Line& names) { add_fields(names, field, Group{}); });
    for (size_t i = 0; i < shown; ++i) {
      printer.print([&](Line& fields) { add_fields(fields, field, groups[i]); });
    }
  }
  if (shown < groups.size()) {
    say(fmt::format("{} more; --limit left them out.", counted(groups.size() - shown, "line")));
  }
  next_step(fmt::format("undershelf list {}{}", quoted_path(path), filters_again(line)));
  return kDone;
}

}  // namespace undershelf::cli
