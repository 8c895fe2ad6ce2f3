// Sizes, dates and words as users write them in filters.
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <cctype>
#include <optional>
#include <regex>

#include "model/error.h"
#include "shelf/selection.h"

namespace undershelf {
namespace {

[[noreturn]] void bad(const std::string& what, const std::string& text, const std::string& right) {
  throw Error(Failure::usage, fmt::format("`{}` is no {}. Write it like {}.", text, what, right));
}

// A number of bytes; nothing if `text` is none.
std::optional<uint64_t> size_in(const std::string& text) {
  static const std::regex kForm(R"((\d{1,18})(\.\d{1,6})?\s?([KMGTkmgt]?)(i?B)?)");
  std::smatch m;
  if (!std::regex_match(text, m, kForm)) return std::nullopt;
  constexpr std::string_view kUnits = "kmgt";
  const size_t unit =
      m[3].length() == 0 ? 0 : kUnits.find(static_cast<char>(std::tolower(*m[3].first))) + 1;
  const uint64_t factor = uint64_t{1} << (10 * unit);
  const uint64_t whole = std::stoull(m[1].str());
  if (whole > (uint64_t{1} << 62) / factor || (m[2].matched && factor == 1)) return std::nullopt;
  const double fraction = m[2].matched ? std::stod("0" + m[2].str()) : 0;
  return whole * factor + static_cast<uint64_t>(fraction * static_cast<double>(factor));
}

uint64_t parse_size(const std::string& text, const std::string& whole) {
  const std::optional<uint64_t> size = size_in(text);
  if (!size) bad("size", whole, "4096, 1.5M, 10M..2G, 100K.. or ..5M");
  return *size;
}

[[noreturn]] void wrong_order(const std::string& text, const std::string& right) {
  throw Error(Failure::usage,
              fmt::format("`{}` ends before it begins. Write the smaller end first, as in {}.",
                          text, right));
}

int number(const std::ssub_match& match, int otherwise) {
  return match.matched ? std::stoi(match.str()) : otherwise;
}

// The day that `today`, `yesterday` or a number of days ago, as `7d`, means; as a date.
std::optional<std::string> day_ago(const std::string& text, const Zone& zone, Time now) {
  static const std::regex kAgo(R"((\d{1,5})d)");
  std::smatch m;
  int64_t days = 0;
  if (std::regex_match(text, m, kAgo)) {
    days = std::stoi(m[1].str());
  } else if (text == "yesterday") {
    days = 1;
  } else if (text != "today") {
    return std::nullopt;
  }
  constexpr int64_t kDay = 86400 * kTicksPerSecond;
  return to_rfc3339(Time{zone.to_local(now).ticks - days * kDay}).substr(0, 10);
}

// The first and the last tick of the period that `named` names.
std::pair<Time, Time> parse_period(const std::string& named, const std::string& whole,
                                   const Zone& zone, Time now) {
  const std::string text = day_ago(named, zone, now).value_or(named);
  const std::string right =
      "2026-03-04, 2026-03-01..2026-03-31, 2026.., ..2026-03-04T10:20, today, yesterday or 7d";
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
    wrong_order(text, "10M..2G");
  }
  return range;
}

uint64_t parse_bytes(const std::string& what, const std::string& text) {
  const std::optional<uint64_t> size = size_in(text);
  if (!size) {
    throw Error(Failure::usage,
                fmt::format("`{}` is no number of bytes for {}. Write it like 4096, "
                            "512K or 1.5G.",
                            text, what));
  }
  return *size;
}

Between<Time> parse_times(const std::string& text, const Zone& zone, Time now) {
  const size_t dots = text.find("..");
  if (dots == std::string::npos) {
    const auto [begin, end] = parse_period(text, text, zone, now);
    // So many days ago, and since.
    if (text.ends_with('d')) return {begin, std::nullopt};
    return {begin, end};
  }
  Between<Time> range;
  if (dots > 0) range.from = parse_period(text.substr(0, dots), text, zone, now).first;
  if (dots + 2 < text.size())
    range.to = parse_period(text.substr(dots + 2), text, zone, now).second;
  if (range.from && range.to && *range.from > *range.to) {
    wrong_order(text, "2026-03-01..2026-03-31");
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
