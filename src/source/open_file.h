// The one place where files and devices are opened to be read as a source.
#pragma once

#include <cstdint>
#include <memory>
#include <string>

#include "source/files.h"
#include "source/read_only.h"

namespace undershelf {

struct OpenedFile {
  int descriptor;          // for reading only; the caller closes it
  uint64_t size;           // bytes
  uint32_t sector_size;    // bytes
  uint32_t physical_size;  // bytes of what a device reads at once, at least; of a file 512
  bool is_device;
  std::shared_ptr<KeptReadOnly> kept;      // of a device; to be let go of before it is closed
  std::shared_ptr<ProtectedSource> apart;  // nothing is opened on it to be written
};

// Throws Error (unavailable) if there is none, it is a folder, empty, or may not be read.
OpenedFile open_file(const std::string& path);

// A second descriptor of it that reads past the page cache; -1 where that is not possible.
int open_direct(const std::string& path);

}  // namespace undershelf
