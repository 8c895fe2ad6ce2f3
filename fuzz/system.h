// The file system that a fuzzer is built for.
#pragma once

#include <algorithm>

#include "fs/fs.h"

namespace undershelf::fuzz {

inline const FileSystem& system_named(std::string_view name) {
  return *std::ranges::find(file_systems(), name, &FileSystem::name);
}

}  // namespace undershelf::fuzz
