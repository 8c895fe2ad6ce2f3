// Names that a target can hold, from names that come off a disk.
#pragma once

#include <cstddef>
#include <string>
#include <string_view>

namespace undershelf {

// What a place can hold.
struct NameRules {
  size_t most_name_bytes = 255;  // of one name, in UTF-8
  // No "*:<>?\|, no dots or spaces at the end of a name, and none of Windows's names for devices.
  bool strict_names = false;
  bool folds_case = false;  // names that differ in case only are the same
};

// One name as it can be written: never empty, `.` or `..`, without `/`, control characters, or
// anything that a manifest cannot hold (`%`, CR, LF), or that the target cannot; no longer than it
// allows. Control characters become U+FFFD, others that cannot stand `_`; a name that cannot be
// gets one in front; what is too long is cut before its extension.
std::string safe_name(std::string_view name, const NameRules& rules);

// A safe name with ` [mark]` before its extension, its stem cut so that it is not too long.
std::string marked_name(std::string_view safe, std::string_view mark, const NameRules& rules);

// The path of a folder as it can be written, behind which a `/` stands; of an empty path: nothing.
// `path` has its parts joined by `/`, each of which becomes safe. A folder whose path would grow
// beyond what systems can open goes into `[deep]` in the first folder of its path. Paths that are
// the same afterwards are one folder.
std::string safe_folder(std::string_view path, const NameRules& rules);

}  // namespace undershelf
