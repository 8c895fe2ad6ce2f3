// A range of bytes, half open.
#pragma once

#include <algorithm>
#include <cstdint>

namespace undershelf {

struct ByteRange {
  uint64_t offset = 0;  // bytes
  uint64_t length = 0;  // bytes
  uint64_t end() const { return offset + length; }
  bool operator==(const ByteRange&) const = default;
};

// The bytes two ranges share; length 0 if none.
inline ByteRange overlap(const ByteRange& a, const ByteRange& b) {
  const uint64_t begin = std::max(a.offset, b.offset);
  const uint64_t end = std::min(a.end(), b.end());
  return end > begin ? ByteRange{begin, end - begin} : ByteRange{begin, 0};
}

}  // namespace undershelf
