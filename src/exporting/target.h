// What the file system of an export's target can hold.
#pragma once

#include <cstdint>
#include <string>

namespace undershelf {

struct Target {
  std::string where;             // the nearest folder that exists
  size_t most_name_bytes = 255;  // of one name, in UTF-8
  uint64_t most_file_bytes = 0;  // of one file; 0: no limit that matters
  uint64_t free_bytes = 0;
  bool strict_names = false;  // no "*:<>?\| and no dots or spaces at the end of a name
  bool folds_case = false;    // names that differ in case only are the same
};

// `path` itself if it exists, or else the nearest folder above it that does.
std::string nearest_existing(const std::string& path);

// Throws Error (refused) unless `directory` is there, or can be made in a folder that is, and that
// folder is no mount point at which nothing is mounted.
void require_writable_parent(const std::string& directory);

// Looks at the file system on which `directory` is, or would be made.
Target examine_target(const std::string& directory);

}  // namespace undershelf
