// Pieces of SQL out of what users ask for. For the shelf's own use.
#pragma once

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <cstdint>
#include <string>
#include <vector>

#include "shelf/selection.h"

namespace undershelf {

inline std::string quoted(const std::string& text) {
  std::string out = "'";
  for (const char c : text) {
    if (c == '\'') out += c;
    out += c;
  }
  return out + "'";
}

inline std::string one_of(const std::string& column, const std::vector<std::string>& values) {
  std::vector<std::string> list;
  for (const std::string& value : values) list.push_back(quoted(value));
  return fmt::format("{} IN ({})", column, fmt::join(list, ","));
}

inline int64_t as_integer(uint64_t value) { return static_cast<int64_t>(value); }
inline int64_t as_integer(Time value) { return value.ticks; }

template <typename Value>
std::string in_ranges(const std::string& column, const std::vector<Between<Value>>& ranges) {
  std::vector<std::string> alternatives;
  for (const Between<Value>& range : ranges) {
    std::string test = column + " IS NOT NULL";
    if (range.from) test += fmt::format(" AND {}>={}", column, as_integer(*range.from));
    if (range.to) test += fmt::format(" AND {}<={}", column, as_integer(*range.to));
    alternatives.push_back("(" + test + ")");
  }
  return fmt::format("({})", fmt::join(alternatives, " OR "));
}

}  // namespace undershelf
