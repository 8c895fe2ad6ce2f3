#include "cli/output.h"

#include <fmt/format.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdlib>
#include <iostream>

#include "cli/command.h"
#include "model/error.h"
#include "model/text.h"

namespace undershelf::cli {
namespace {

constexpr size_t kLeastWidth = 40;
constexpr size_t kLeastCell = 12;

// The first (or last) part of printable text that takes at most `width` columns.
std::string head_of(std::string_view text, size_t width) {
  size_t end = 0;
  for (size_t at = 0; at < text.size();) {
    size_t next = at + 1;
    while (next < text.size() && (text[next] & 0xC0) == 0x80) ++next;
    if (columns(text.substr(0, next)) > width) break;
    end = at = next;
  }
  return std::string(text.substr(0, end));
}

std::string tail_of(std::string_view text, size_t width) {
  size_t begin = text.size();
  for (size_t at = text.size(); at > 0;) {
    size_t next = at - 1;
    while (next > 0 && (text[next] & 0xC0) == 0x80) --next;
    if (columns(text.substr(next)) > width) break;
    begin = at = next;
  }
  return std::string(text.substr(begin));
}

Line::Form form_of(const std::string& format) {
  if (format == "jsonl") return Line::Form::json;
  return ::isatty(STDOUT_FILENO) != 0 ? Line::Form::csv_terminal : Line::Form::csv;
}

}  // namespace

size_t terminal_width(int descriptor) {
  winsize size{};
  if (::isatty(descriptor) != 0 && ::ioctl(descriptor, TIOCGWINSZ, &size) == 0 && size.ws_col > 0) {
    return std::max<size_t>(size.ws_col, kLeastWidth);
  }
  return 0;
}

size_t output_width() {
  if (const size_t width = terminal_width(STDOUT_FILENO); width > 0) return width;
  const char* columns = std::getenv("COLUMNS");
  const long wanted = columns == nullptr ? 0 : std::strtol(columns, nullptr, 10);
  return wanted > 0 ? std::max(static_cast<size_t>(wanted), kLeastWidth) : 80;
}

std::string wrapped(std::string_view text, size_t width, size_t indent) {
  std::string out;
  size_t used = 0;
  for (size_t at = 0; at < text.size();) {
    const size_t end = std::min(text.find(' ', at), text.size());
    const std::string_view word = text.substr(at, end - at);
    const size_t needed = columns(word);
    if (used > 0 && used + 1 + needed > width) {
      out += '\n';
      out.append(indent, ' ');
      used = indent;
    } else if (at > 0) {
      out += ' ';
      ++used;
    }
    out += word;
    used += needed;
    at = end + 1;
  }
  return out;
}

std::string shortened(std::string_view text, size_t width) {
  if (columns(text) <= width) return std::string(text);
  const size_t room = width > 1 ? width - 1 : 0;
  const size_t behind = room * 2 / 3;
  return head_of(text, room - behind) + "…" + tail_of(text, behind);
}

void print_line(std::string_view text, size_t indent) {
  std::cout << wrapped(printable(text), output_width(), indent) << '\n';
}

RowPrinter::RowPrinter(const std::string& format)
    : csv_(format == "csv"), form_(form_of(format)), line_(form_) {}

void RowPrinter::write(const std::string& line) { std::cout << line; }

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
  size_t total = 2 * (columns_.size() - 1);
  for (const size_t width : widths) total += width;
  const size_t most = output_width();
  for (size_t i = 0; i < columns_.size() && total > most; ++i) {
    if (!columns_[i].gives_way) continue;
    const size_t least = std::min(widths[i], kLeastCell);
    const size_t cut = std::min(widths[i] - least, total - most);
    widths[i] -= cut;
    total -= cut;
  }
  for (const auto& row : shown) {
    std::string line;
    for (size_t i = 0; i < row.size(); ++i) {
      const std::string cell = shortened(row[i], widths[i]);
      const std::string padding(widths[i] - columns(cell), ' ');
      const bool right = columns_[i].align == Align::right;
      if (i > 0) line += "  ";
      line += right ? padding + cell : cell + padding;
    }
    line.erase(line.find_last_not_of(' ') + 1);
    std::cout << line << '\n';
  }
}

std::string table_time(const std::optional<Time>& time, const Zone& zone) {
  if (!time) return {};
  const CivilTime c = to_civil(zone.to_local(*time));
  return fmt::format("{:04}-{:02}-{:02} {:02}:{:02}:{:02}", c.year, c.month, c.day, c.hour,
                     c.minute, c.second);
}

std::string table_rating(const std::optional<std::string>& rating,
                         const std::optional<int>& score) {
  if (!rating) return {};
  return fmt::format("{:<7} {:>3}", *rating, score.value_or(0));
}

std::string disk_image(SpaceId space) {
  return fmt::format("a disk image, the living file with id {}", space);
}

std::string duration(double seconds) {
  const auto whole = static_cast<uint64_t>(std::llround(seconds));
  if (whole < 60) return fmt::format("{} s", whole);
  if (whole < 3600) return fmt::format("{} min", (whole + 30) / 60);
  return fmt::format("{} h {:02} min", whole / 3600, whole % 3600 / 60);
}

}  // namespace undershelf::cli
