// Ranges of bytes, half open.
#pragma once

#include <algorithm>
#include <cstdint>

namespace undershelf {

// Of a space: the source, or a file on it that is read as one.
struct ByteRange {
  uint64_t offset = 0;  // bytes
  uint64_t length = 0;  // bytes
  uint64_t end() const { return offset + length; }
  bool operator==(const ByteRange&) const = default;
};

// Of a volume, from its own beginning on. Only what knows where the volume lies makes the one of
// the other (fs/chained/heap.h).
struct VolumeRange {
  uint64_t offset = 0;  // bytes
  uint64_t length = 0;  // bytes
  uint64_t end() const { return offset + length; }
  bool operator==(const VolumeRange&) const = default;
};

// The bytes two ranges share; length 0 if none.
inline ByteRange overlap(const ByteRange& a, const ByteRange& b) {
  const uint64_t begin = std::max(a.offset, b.offset);
  const uint64_t end = std::min(a.end(), b.end());
  return end > begin ? ByteRange{begin, end - begin} : ByteRange{begin, 0};
}

}  // namespace undershelf
