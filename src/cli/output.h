// Tables, CSV and JSON Lines on standard output.
#pragma once

#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "model/time.h"

namespace undershelf::cli {

using Json = nlohmann::ordered_json;

// One line of JSON. Text that is no valid UTF-8 shows U+FFFD.
void print_json(const Json& object);

// CSV (RFC 4180) of flat objects: the first call prints the keys as a header.
class CsvPrinter {
 public:
  void print(const Json& object);
  void header(const Json& object);

 private:
  bool header_printed_ = false;
};

// A table with aligned columns. Rows are held until print(); cells are made printable.
class Table {
 public:
  enum class Align { left, right };
  struct Column {
    std::string title;
    Align align = Align::left;
  };
  explicit Table(std::vector<Column> columns) : columns_(std::move(columns)) {}
  void add(std::vector<std::string> cells) { rows_.push_back(std::move(cells)); }
  void print() const;

 private:
  std::vector<Column> columns_;
  std::vector<std::vector<std::string>> rows_;
};

Json json_time(const std::optional<Time>& time);          // RFC 3339 or null
std::string table_time(const std::optional<Time>& time);  // 2026-03-04 10:20:30, or empty
std::string table_size(uint64_t bytes);                   // 4.5 MiB; below 1 KiB: 17 B

}  // namespace undershelf::cli
