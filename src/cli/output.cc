#include "cli/output.h"

#include <fmt/format.h>

#include <array>
#include <iostream>

#include "model/text.h"

namespace undershelf::cli {
namespace {

std::string dump(const Json& value) {
  return value.dump(-1, ' ', false, Json::error_handler_t::replace);
}

std::string csv_cell(const Json& value) {
  if (value.is_null()) return {};
  const std::string text = value.is_string() ? value.get<std::string>() : dump(value);
  if (text.find_first_of(",\"\r\n") == std::string::npos) return text;
  std::string quoted = "\"";
  for (const char c : text) {
    if (c == '"') quoted += c;
    quoted += c;
  }
  return quoted + "\"";
}

void print_csv_line(const std::vector<std::string>& cells) {
  std::cout << fmt::format("{}\r\n", fmt::join(cells, ","));
}

}  // namespace

void print_json(const Json& object) { std::cout << dump(object) << '\n'; }

void CsvPrinter::header(const Json& object) {
  if (header_printed_) return;
  header_printed_ = true;
  std::vector<std::string> keys;
  for (const auto& item : object.items()) keys.push_back(item.key());
  print_csv_line(keys);
}

void CsvPrinter::print(const Json& object) {
  header(object);
  std::vector<std::string> cells;
  for (const auto& item : object.items()) cells.push_back(csv_cell(item.value()));
  print_csv_line(cells);
}

void Table::print() const {
  std::vector<std::vector<std::string>> shown;
  std::vector<std::string> titles;
  for (const Column& column : columns_) titles.push_back(column.title);
  shown.push_back(titles);
  for (const auto& row : rows_) {
    std::vector<std::string> cells;
    for (const std::string& cell : row) cells.push_back(printable(cell));
    shown.push_back(std::move(cells));
  }
  std::vector<size_t> widths(columns_.size(), 0);
  for (const auto& row : shown) {
    for (size_t i = 0; i < row.size(); ++i) widths[i] = std::max(widths[i], columns(row[i]));
  }
  for (const auto& row : shown) {
    std::string line;
    for (size_t i = 0; i < row.size(); ++i) {
      const std::string padding(widths[i] - columns(row[i]), ' ');
      const bool right = columns_[i].align == Align::right;
      if (i > 0) line += "  ";
      line += right ? padding + row[i] : row[i] + padding;
    }
    line.erase(line.find_last_not_of(' ') + 1);
    std::cout << line << '\n';
  }
}

Json json_time(const std::optional<Time>& time) {
  return time ? Json(to_rfc3339(*time)) : Json(nullptr);
}

std::string table_time(const std::optional<Time>& time) {
  if (!time) return {};
  const CivilTime c = to_civil(*time);
  return fmt::format("{:04}-{:02}-{:02} {:02}:{:02}:{:02}", c.year, c.month, c.day, c.hour,
                     c.minute, c.second);
}

std::string table_size(uint64_t bytes) {
  constexpr std::array<std::string_view, 6> kUnits = {"KiB", "MiB", "GiB", "TiB", "PiB", "EiB"};
  if (bytes < 1024) return fmt::format("{} B", bytes);
  double value = static_cast<double>(bytes) / 1024;
  size_t unit = 0;
  while (value >= 1024 && unit + 1 < kUnits.size()) {
    value /= 1024;
    ++unit;
  }
  return fmt::format("{:.1f} {}", value, kUnits[unit]);
}

}  // namespace undershelf::cli
