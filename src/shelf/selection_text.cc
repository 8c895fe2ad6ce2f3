// Sizes, dates and words as users write them in filters.
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <charconv>
#include <regex>

#include "model/error.h"
#include "shelf/selection.h"

namespace undershelf {
namespace {

[[noreturn]] void bad(const std::string& what, const std::string& text, const std::string& right) {
  throw Error(Failure::usage, fmt::format("`{}` is no {}. Write it like {}.", text, what, right));
}

uint64_t parse_size(const std::string& text, const std::string& whole) {
  const std::string right = "4096, 10M..2G, 100K.. or ..5M";
  uint64_t value = 0;
  const char* end = text.data() + text.size();
  const auto [rest, error] = std::from_chars(text.data(), end, value);
  if (error != std::errc{} || rest == text.data()) bad("size", whole, right);
  unsigned shift = 0;
  const std::string unit(rest, end);
  if (unit == "K" || unit == "k") {
    shift = 10;
  } else if (unit == "M" || unit == "m") {
    shift = 20;
  } else if (unit == "G" || unit == "g") {
    shift = 30;
  } else if (!unit.empty()) {
    bad("size", whole, right);
  }
  if (value > (uint64_t{1} << 62) >> shift) bad("size", whole, right);
  return value << shift;
}

int number(const std::ssub_match& match, int otherwise) {
  return match.matched ? std::stoi(match.str()) : otherwise;
}

// The first and the last tick of the period that `text` names.
std::pair<Time, Time> parse_period(const std::string& text, const std::string& whole,
                                   const Zone& zone) {
  const std::string right = "2026-03-04, 2026-03-01..2026-03-31, 2026.. or ..2026-03-04T10:20";
  static const std::regex kForm(
      R"((\d{4})(?:-(\d\d)(?:-(\d\d)(?:[T ](\d\d):(\d\d)(?::(\d\d))?(Z|[+-]\d\d:\d\d)?)?)?)?)");
  std::smatch m;
  if (!std::regex_match(text, m, kForm)) bad("date", whole, right);
  CivilTime civil;
  civil.year = number(m[1], 1970);
  civil.month = static_cast<unsigned>(number(m[2], 1));
  civil.day = static_cast<unsigned>(number(m[3], 1));
  civil.hour = static_cast<unsigned>(number(m[4], 0));
  civil.minute = static_cast<unsigned>(number(m[5], 0));
  civil.second = static_cast<unsigned>(number(m[6], 0));
  const auto begin = from_civil(civil);
  if (!begin) bad("date", whole, right);

  CivilTime next = civil;  // the start of the period that follows
  int64_t length = 0;      // ticks; for the shorter periods
  if (!m[2].matched) {
    ++next.year;
  } else if (!m[3].matched) {
    next.month = civil.month % 12 + 1;
    next.year += civil.month == 12;
  } else {
    length = (m[6].matched ? 1 : m[4].matched ? 60 : 86400) * kTicksPerSecond;
  }
  const Time end = length == 0 ? *from_civil(next) : Time{begin->ticks + length};
  const auto to_utc = [&](Time local) {
    if (!m[7].matched) return zone.to_utc(local);
    const std::string offset = m[7].str();
    if (offset == "Z") return local;
    const int64_t minutes = std::stoi(offset.substr(1, 2)) * 60 + std::stoi(offset.substr(4, 2));
    return Time{local.ticks + (offset[0] == '+' ? -1 : 1) * minutes * 60 * kTicksPerSecond};
  };
  return {to_utc(*begin), Time{to_utc(end).ticks - 1}};
}

}  // namespace

Between<uint64_t> parse_sizes(const std::string& text) {
  const size_t dots = text.find("..");
  if (dots == std::string::npos) {
    const uint64_t exact = parse_size(text, text);
    return {exact, exact};
  }
  Between<uint64_t> range;
  if (dots > 0) range.from = parse_size(text.substr(0, dots), text);
  if (dots + 2 < text.size()) range.to = parse_size(text.substr(dots + 2), text);
  if (range.from && range.to && *range.from > *range.to) {
    bad("size", text, "the smaller end first, as in 10M..2G");
  }
  return range;
}

Between<Time> parse_times(const std::string& text, const Zone& zone) {
  const size_t dots = text.find("..");
  if (dots == std::string::npos) {
    const auto [begin, end] = parse_period(text, text, zone);
    return {begin, end};
  }
  Between<Time> range;
  if (dots > 0) range.from = parse_period(text.substr(0, dots), text, zone).first;
  if (dots + 2 < text.size()) range.to = parse_period(text.substr(dots + 2), text, zone).second;
  if (range.from && range.to && *range.from > *range.to) {
    bad("date", text, "the earlier end first, as in 2026-03-01..2026-03-31");
  }
  return range;
}

void require_known(const std::string& option, const std::string& value,
                   const std::vector<std::string>& known) {
  if (std::ranges::find(known, value) == known.end()) {
    throw Error(Failure::usage, fmt::format("{} does not know `{}`. It takes {}.", option, value,
                                            fmt::join(known, ", ")));
  }
}

const std::vector<std::string>& sort_fields() {
  static const std::vector<std::string> kFields = {
      "id",       "volume",   "path",    "name", "kind",   "state", "size",        "created",
      "modified", "accessed", "deleted", "type", "rating", "score", "intact_bytes"};
  return kFields;
}

}  // namespace undershelf
