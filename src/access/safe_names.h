// Names and paths that a target can hold, from names that come off a disk.
#pragma once

#include <cstddef>
#include <cstdint>
#include <string>
#include <string_view>
#include <unordered_map>

#include "model/ids.h"

namespace undershelf {

// What a place can hold.
struct NameRules {
  size_t most_name_bytes = 255;  // of one name, in UTF-8
  bool strict_names = false;     // no "*:<>?\| and no dots or spaces at the end of a name
  bool folds_case = false;       // names that differ in case only are the same
};

// One name as it can be written: never empty, `.` or `..`, without `/`, control characters, or
// anything that a manifest cannot hold (`%`, CR, LF), or that the target cannot; no longer than it
// allows. Control characters become U+FFFD, others that cannot stand `_`; what is too long is cut
// before its extension.
std::string safe_name(std::string_view name, const NameRules& rules);

// Gives out one path for each entry, none twice. Not to be shared between threads.
class PathMaker {
 public:
  explicit PathMaker(const NameRules& rules) : rules_(rules) {}
  // `path` has its parts joined by `/`. Where another entry has the path already, ` [id N]` is
  // added to a file's name, ` [folder]` to a folder's. A folder whose path would grow beyond what
  // systems can open goes into `[deep]` in the first folder of its path. A folder ends in `/`.
  std::string file(std::string_view path, EntryId id);
  std::string folder(std::string_view path);

 private:
  enum class Use : uint8_t { file, folder };
  // `id`: of a file; what tells it apart.
  std::string claim(const std::string& parent, std::string_view name, Use use, EntryId id);
  NameRules rules_;
  std::unordered_map<std::string, Use> taken_;            // folded where the target folds case
  std::unordered_map<std::string, std::string> folders_;  // path as on the disk to path written
};

}  // namespace undershelf
