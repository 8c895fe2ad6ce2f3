#include "access/safe_names.h"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <iterator>

#include "model/text.h"

namespace undershelf {
namespace {

// Leaves room for the target's own path and one name below the 4,096 bytes of a path.
constexpr size_t kMostFolderBytes = 2048;

// The name with `added` before its extension, cut to `most` bytes.
std::string with_added(std::string_view name, std::string_view added, size_t most) {
  const size_t dot = name.rfind('.');
  std::string_view extension;
  if (dot != std::string_view::npos && dot > 0 && name.size() - dot <= 32) {
    extension = name.substr(dot);
  }
  const std::string_view stem = name.substr(0, name.size() - extension.size());
  const size_t room = most - std::min(most, added.size() + extension.size());
  return fmt::format("{}{}{}", cut_utf8(stem, room), added, extension);
}

// Names that Windows keeps for devices, whatever stands behind a dot: nobody there could open such
// a file.
bool is_device_name(std::string_view name) {
  std::string stem(name.substr(0, name.find('.')));
  stem.erase(stem.find_last_not_of(' ') + 1);
  for (char& c : stem) c = static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
  constexpr std::string_view kAlone[] = {"CON", "PRN", "AUX", "NUL", "CONIN$", "CONOUT$"};
  if (std::ranges::find(kAlone, stem) != std::end(kAlone)) return true;
  if (!stem.starts_with("COM") && !stem.starts_with("LPT")) return false;
  constexpr std::string_view kNumbers[] = {"0", "1", "2", "3",      "4",      "5",     "6",
                                           "7", "8", "9", "\u00b9", "\u00b2", "\u00b3"};
  return std::ranges::find(kNumbers, std::string_view(stem).substr(3)) != std::end(kNumbers);
}

}  // namespace

std::string safe_name(std::string_view name, const NameRules& rules) {
  constexpr std::string_view kStrict = "\"*:<>?\\|";
  std::string safe = without_controls(name);
  for (char& c : safe) {
    const bool strict = rules.strict_names && kStrict.find(c) != std::string_view::npos;
    if (c == '/' || c == '%' || strict) c = '_';
  }
  if (rules.strict_names && !safe.empty() && (safe.back() == '.' || safe.back() == ' ')) {
    safe.back() = '_';
  }
  const bool is_device = rules.strict_names && is_device_name(safe);
  if (safe.empty() || safe == "." || safe == ".." || is_device) safe.insert(0, "_");
  return safe.size() <= rules.most_name_bytes ? safe : with_added(safe, "", rules.most_name_bytes);
}

std::string marked_name(std::string_view safe, std::string_view mark, const NameRules& rules) {
  return with_added(safe, fmt::format(" [{}]", mark), rules.most_name_bytes);
}

std::string safe_folder(std::string_view path, const NameRules& rules) {
  std::string safe;
  size_t first = 0;  // bytes of the first folder, with its slash
  for (size_t begin = 0; begin < path.size();) {
    const size_t end = std::min(path.find('/', begin), path.size());
    if (safe.size() > kMostFolderBytes) safe = safe.substr(0, first) + "[deep]/";
    safe += safe_name(path.substr(begin, end - begin), rules) + "/";
    if (begin == 0) first = safe.size();
    begin = end + 1;
  }
  return safe;
}

}  // namespace undershelf
