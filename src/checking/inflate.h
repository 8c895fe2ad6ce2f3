// Deflated ranges of a file. For the room's own use.
#pragma once

#include <cstdint>

#include "content/bytes.h"

namespace undershelf::checking {

struct Inflated {
  bool whole = false;  // its end was reached, and what it says of itself holds
  uint64_t end = 0;    // byte of the file behind what was taken
  uint64_t size = 0;   // bytes, unpacked
  uint32_t crc = 0;    // of these
};

// `stored` bytes from `from` on. `bits`: as inflateInit2 of zlib takes them. Stops behind `most`
// bytes of output.
Inflated inflate_from(content::Bytes& bytes, uint64_t from, uint64_t stored, int bits,
                      uint64_t most);

}  // namespace undershelf::checking
