// Tables and text on standard output, fitted to the terminal.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "model/ids.h"
#include "model/time.h"
#include "model/words.h"
#include "shelf/line.h"

namespace undershelf::cli {

// Columns there are for text on standard output: the terminal's, or COLUMNS, or else 80.
size_t output_width();

// Text broken between words into lines of at most `width` columns, all but the first indented by
// `indent`. Words that are longer stay whole.
std::string wrapped(std::string_view text, size_t width, size_t indent = 0);

// Text cut to at most `width` columns, in the middle, where `…` then stands; its end is kept, as
// that is where a path has the name.
std::string shortened(std::string_view text, size_t width);

// What may steer a terminal is shown escaped; the line fits the terminal.
void print_line(std::string_view text, size_t indent = 0);

// The forms of --format: table, csv, jsonl. For the last two, what writes their lines.
class RowPrinter {
 public:
  explicit RowPrinter(const std::string& format);
  // Writes the names of the fields, if the format has them in front. `add` adds all fields.
  template <typename Add>
  void header(Add add) {
    if (!csv_) return;
    Line names(Line::Form::csv_header);
    names.begin();
    add(names);
    std::string header = names.end();
    if (form_ == Line::Form::csv_terminal) header.erase(header.size() - 2, 1);
    write(header);
  }
  template <typename Add>
  void print(Add add) {
    line_.begin();
    add(line_);
    write(line_.end());
  }

 private:
  static void write(const std::string& line);
  bool csv_;
  Line::Form form_;
  Line line_;
};

// A table with aligned columns. Rows are held until print(); cells are made printable. Where it is
// wider than the terminal, the column that is said to give way is cut in the middle.
class Table {
 public:
  enum class Align { left, right };
  struct Column {
    std::string title;
    Align align = Align::left;
    bool gives_way = false;
  };
  explicit Table(std::vector<Column> columns) : columns_(std::move(columns)) {}
  void add(std::vector<std::string> cells) { rows_.push_back(std::move(cells)); }
  void print() const;

 private:
  std::vector<Column> columns_;
  std::vector<std::vector<std::string>> rows_;
};

// 2026-03-04 10:20:30 in the zone, or empty.
std::string table_time(const std::optional<Time>& time, const Zone& zone);
std::string table_rating(const std::optional<std::string>& rating, const std::optional<int>& score);

// What a volume lies on that does not lie on the source: a living file, by its id.
std::string disk_image(SpaceId space);
std::string duration(double seconds);  // 17 s; 5 min; 3 h 05 min

}  // namespace undershelf::cli
