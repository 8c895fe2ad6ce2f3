// Names that programs and people give to earlier versions and copies of a file.
#pragma once

#include <optional>
#include <string>
#include <string_view>

namespace undershelf {

// Of which file a name is another version. Both in a form in which case and composition do not
// differ.
struct VersionOf {
  std::string stem;       // the file's name without its extension
  std::string extension;  // without the dot; empty if the version's name does not tell it
  bool operator==(const VersionOf&) const = default;
};

// Nothing if `name` is not the name of a version: copies with a number, a date or a word behind
// the name, backups, automatic saves. `name`: UTF-8.
std::optional<VersionOf> version_named(std::string_view name);

// A file's own name in that form.
VersionOf version_key(std::string_view name);

}  // namespace undershelf
