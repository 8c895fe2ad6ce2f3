#include "access/safe_names.h"

#include <fmt/format.h>

#include "model/text.h"

namespace undershelf {
namespace {

// Leaves room for the target's own path and one name below the 4,096 bytes of a path.
constexpr size_t kMostFolderBytes = 2048;

// The name with `mark` before its extension, cut to `most` bytes.
std::string with_mark(std::string_view name, std::string_view mark, size_t most) {
  const size_t dot = name.rfind('.');
  std::string_view extension;
  if (dot != std::string_view::npos && dot > 0 && name.size() - dot <= 32) {
    extension = name.substr(dot);
  }
  const std::string_view stem = name.substr(0, name.size() - extension.size());
  const size_t room = most - std::min(most, mark.size() + extension.size());
  return fmt::format("{}{}{}", cut_utf8(stem, room), mark, extension);
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
  if (safe.empty() || safe == "." || safe == "..") return "_" + safe;
  return safe.size() <= rules.most_name_bytes ? safe : with_mark(safe, "", rules.most_name_bytes);
}

std::string PathMaker::claim(const std::string& parent, std::string_view name, Use use,
                             EntryId id) {
  const std::string plain = safe_name(name, rules_);
  for (int attempt = 0;; ++attempt) {
    std::string path = parent;
    if (attempt == 0) {
      path += plain;
    } else {
      const std::string mark = use == Use::folder ? "folder" : fmt::format("id {}", id);
      const std::string added =
          attempt == 1 ? fmt::format(" [{}]", mark) : fmt::format(" [{}, {}]", mark, attempt);
      path += with_mark(plain, added, rules_.most_name_bytes);
    }
    const auto [at, is_new] = taken_.emplace(rules_.folds_case ? fold_case(path) : path, use);
    if (is_new || (use == Use::folder && at->second == Use::folder)) return path;
  }
}

std::string PathMaker::folder(std::string_view path) {
  std::string made;
  std::string top;
  for (size_t begin = 0; begin < path.size();) {
    const size_t end = std::min(path.find('/', begin), path.size());
    std::string& known = folders_[std::string(path.substr(0, end))];
    if (known.empty()) {
      if (made.size() > kMostFolderBytes) made = top + "[deep]/";
      known = claim(made, path.substr(begin, end - begin), Use::folder, EntryId::none) + "/";
    }
    made = known;
    if (begin == 0) top = made;
    begin = end + 1;
  }
  return made;
}

std::string PathMaker::file(std::string_view path, EntryId id) {
  const size_t slash = path.rfind('/');
  const bool nested = slash != std::string_view::npos;
  return claim(nested ? folder(path.substr(0, slash)) : std::string(),
               nested ? path.substr(slash + 1) : path, Use::file, id);
}

}  // namespace undershelf
