// One object a line, as JSON Lines or CSV (RFC 4180). What is printed and what an export lists go
// through here, so that they bear the same names in the same order.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "model/time.h"

namespace undershelf {

struct Row;

// Builds lines in memory that is used again. Not to be shared between threads.
class Line {
 public:
  enum class Form : uint8_t {
    json,
    csv,
    csv_header,    // the names of the fields instead of their values
    csv_terminal,  // CSV with what would steer a terminal shown escaped
  };
  explicit Line(Form form) : form_(form) {}

  void begin();
  void text(std::string_view name, std::string_view value);
  void text(std::string_view name, const std::string& value) {
    text(name, std::string_view(value));
  }
  void text(std::string_view name, const char* value) { text(name, std::string_view(value)); }
  void text(std::string_view name, const std::optional<std::string>& value);
  void number(std::string_view name, int64_t value);
  void count(std::string_view name, uint64_t value) { number(name, static_cast<int64_t>(value)); }
  template <typename Number>
  void number(std::string_view name, const std::optional<Number>& value) {
    value ? number(name, static_cast<int64_t>(*value)) : null(name);
  }
  void boolean(std::string_view name, bool value);
  void time(std::string_view name, const std::optional<Time>& value);  // RFC 3339, UTC
  // A list; in CSV one to a line of the cell.
  void list(std::string_view name, const std::vector<std::string>& values);
  void null(std::string_view name);
  // JSON as it is; in CSV too.
  void raw(std::string_view name, std::string_view json);
  // The line with its end: LF, or CR LF in CSV. Valid until the next begin().
  const std::string& end();

 private:
  void key(std::string_view name);
  void cell(std::string_view value);
  Form form_;
  bool first_ = true;
  std::string line_;
};

// Appends text as a JSON string. What is no valid UTF-8 becomes U+FFFD; control and bidirectional
// characters are escaped.
void append_json_string(std::string& out, std::string_view text);

// All fields of a row of a list, without begin() and end(). `sha256`: of its content, where that
// was read; or empty.
void add_fields(Line& line, const Row& row, std::string_view sha256 = {});

}  // namespace undershelf
