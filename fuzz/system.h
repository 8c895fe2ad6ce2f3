// The file system that a fuzzer is called for.
#pragma once

#include <algorithm>
#include <cstdlib>

#include "fs/fs.h"
#include "target.h"

namespace undershelf::fuzz {

// The one whose name is the target's word.
inline const FileSystem& target_system() {
  const auto system = std::ranges::find(file_systems(), target_word(), &FileSystem::name);
  if (system == file_systems().end()) std::abort();
  return *system;
}

}  // namespace undershelf::fuzz
