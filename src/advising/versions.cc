#include "advising/versions.h"

#include <algorithm>
#include <utility>

#include "model/text.h"

namespace undershelf {
namespace {

bool is_digit(char c) { return c >= '0' && c <= '9'; }

bool cut_back(std::string_view& text, std::string_view end) {
  if (text.size() <= end.size() || !text.ends_with(end)) return false;
  text.remove_suffix(end.size());
  return true;
}

bool cut_front(std::string_view& text, std::string_view begin) {
  if (text.size() <= begin.size() || !text.starts_with(begin)) return false;
  text.remove_prefix(begin.size());
  return true;
}

// As `shape` has it, in which 0 stands for a digit.
bool has_shape(std::string_view text, std::string_view shape) {
  return std::ranges::equal(text, shape,
                            [](char c, char as) { return as == '0' ? is_digit(c) : c == as; });
}

// ` (2026_03_04 10_20_30 UTC)`, as a file history adds it, or ` (12)`.
bool cut_brackets(std::string_view& stem) {
  const size_t open = stem.rfind(" (");
  if (open == std::string_view::npos || open == 0 || !stem.ends_with(')')) return false;
  const std::string_view inner = stem.substr(open + 2, stem.size() - open - 3);
  const bool number = !inner.empty() && inner.size() <= 3 && std::ranges::all_of(inner, is_digit);
  if (!number && !has_shape(inner, "0000_00_00 00_00_00 utc")) return false;
  stem = stem.substr(0, open);
  return true;
}

// ` copy 2`, `_v3`, `-2026-03-04`.
bool cut_number(std::string_view& stem) {
  std::string_view left = stem;
  while (!left.empty() && is_digit(left.back())) left.remove_suffix(1);
  const size_t digits = stem.size() - left.size();
  if (digits == 0 || digits > 3) return false;
  for (const std::string_view before : {" copy ", "_v", " v", "-v"}) {
    if (!cut_back(left, before)) continue;
    stem = left;
    return true;
  }
  return false;
}

bool cut_date(std::string_view& stem) {
  constexpr std::string_view kShape = "0000-00-00";
  if (stem.size() <= kShape.size() + 1) return false;
  const char before = stem[stem.size() - kShape.size() - 1];
  if (!has_shape(stem.substr(stem.size() - kShape.size()), kShape)) return false;
  if (before != '-' && before != '_' && before != ' ') return false;
  stem.remove_suffix(kShape.size() + 1);
  return true;
}

std::pair<std::string_view, std::string_view> split(std::string_view name) {
  const size_t dot = name.rfind('.');
  if (dot == std::string_view::npos || dot == 0) return {name, {}};
  return {name.substr(0, dot), name.substr(dot + 1)};
}

VersionOf key_of(std::string_view name) {
  const auto [stem, extension] = split(name);
  return {std::string(stem), std::string(extension)};
}

}  // namespace

VersionOf version_key(std::string_view name) { return key_of(fold_for_search(name)); }

std::optional<VersionOf> version_named(std::string_view name) {
  const std::string folded = fold_for_search(name);
  std::string_view rest = folded;
  // Backups: the whole name stays in front of the ending, or only what is before its own.
  for (const std::string_view end : {".bak", ".old", ".orig", ".backup", ".sav", "~"}) {
    if (cut_back(rest, end)) return key_of(rest);
  }
  if (rest.size() > 2 && rest.front() == '#' && rest.back() == '#') {
    return key_of(rest.substr(1, rest.size() - 2));
  }
  auto [stem, extension] = split(rest);
  if (extension == "swp" && cut_front(stem, ".")) return key_of(stem);
  if (extension == "wbk" && cut_front(stem, "backup of ")) return VersionOf{std::string(stem), {}};
  if (extension == "xlk" && cut_front(stem, "backup of ")) return VersionOf{std::string(stem), {}};
  if (extension == "asd" && cut_front(stem, "autorecovery save of ")) {
    return VersionOf{std::string(stem), {}};
  }
  bool version = cut_front(stem, "copy of ");
  // One after the other: `Tide (2) - copy`.
  for (bool more = true; more;) {
    more = cut_brackets(stem) || cut_back(stem, " - copy") || cut_back(stem, " copy") ||
           cut_number(stem) || cut_date(stem);
    version = version || more;
  }
  if (!version) return std::nullopt;
  return VersionOf{std::string(stem), std::string(extension)};
}

}  // namespace undershelf
