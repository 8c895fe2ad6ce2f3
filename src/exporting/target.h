// What the file system of an export's target can hold.
#pragma once

#include <cstdint>
#include <string>

#include "access/safe_names.h"

namespace undershelf {

struct Target {
  std::string where;  // the nearest folder that exists
  NameRules names;
  uint64_t most_file_bytes = 0;  // of one file; 0: no limit that matters
  uint64_t free_bytes = 0;
  // Of an archive:
  uint64_t most_archive_bytes = 0;  // of the archive itself; 0: no limit that matters
  bool compresses = false;          // so that the room it takes is not known before
  int times_the_room = 1;           // it takes while it is made
};

// The system's folder for files that go away by themselves. Throws Error (refused) if there is
// none.
std::string temporary_folder();

// Throws Error (refused) unless `directory` is there, or can be made in a folder that is, and that
// folder is no mount point at which nothing is mounted.
void require_writable_parent(const std::string& directory);

// Throws Error (refused) unless a file can be made at `path`, in a folder that is there, and where
// nothing is yet.
void require_new_file(const std::string& path);

// Looks at the file system on which `directory` is, or would be made.
Target examine_target(const std::string& directory);

}  // namespace undershelf
