// The members of a ZIP archive (APPNOTE.TXT, 4.3). For walking and for checking them.
#pragma once

#include <functional>

#include "content/walk.h"

namespace undershelf::content {

struct ZipMember {
  uint64_t header = 0;  // byte of the file
  uint64_t data = 0;    // byte of the file
  uint64_t stored = 0;  // bytes in the file
  uint64_t size = 0;    // bytes, unpacked
  uint32_t crc = 0;     // of what is unpacked
  uint16_t method = 0;
  bool encrypted = false;
};

// Calls back for each member in the order of the central directory, until that returns false.
// The walk says where the archive ends, and `broken` where the directory and the members' own heads
// do not agree.
Walk each_zip_member(Bytes& bytes, const std::function<bool(const ZipMember&)>& then);

}  // namespace undershelf::content
