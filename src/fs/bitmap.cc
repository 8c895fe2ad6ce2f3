#include "fs/bitmap.h"

#include <algorithm>
#include <array>
#include <cstring>

namespace undershelf {
namespace {

// The first byte from `from` on that is not `byte`; the size if all are.
size_t first_other(std::span<const std::byte> bytes, size_t from, std::byte byte) {
  uint64_t word = 0;
  std::memset(&word, std::to_integer<int>(byte), sizeof word);
  while (from < bytes.size()) {
    uint64_t next = ~word;
    if (from + sizeof next <= bytes.size()) std::memcpy(&next, &bytes[from], sizeof next);
    if (next == word) {
      from += sizeof next;
    } else if (bytes[from] == byte) {
      ++from;
    } else {
      break;
    }
  }
  return from;
}

}  // namespace

ByteRange UseBitmap::next_used(const ByteRange& within) {
  const ByteRange range = overlap(within, heap_);
  if (range.length == 0) return {};
  const uint64_t end = (range.end() - heap_.offset + cluster_size_ - 1) / cluster_size_;
  const uint64_t first = find((range.offset - heap_.offset) / cluster_size_, end, true);
  if (first == end) return {};
  const uint64_t behind = find(first, end, false);
  return {heap_.offset + first * cluster_size_, (behind - first) * cluster_size_};
}

uint64_t UseBitmap::find(uint64_t from, uint64_t end, bool wanted) {
  constexpr uint64_t kStep = 4096;  // bytes of the bitmap
  std::array<std::byte, kStep> bytes;
  for (uint64_t at = from; at < end;) {
    const uint64_t byte = at / 8;
    if (byte >= bytes_) return wanted ? end : at;  // behind it nothing is in use
    const size_t count = std::min(kStep - byte % kStep, (end + 7) / 8 - byte);
    const auto block = std::span(bytes).first(count);
    cache_.read(byte, block);  // what cannot be read of it is zero, and counts as free
    const std::byte skipped = wanted ? std::byte{0} : std::byte{0xFF};
    for (size_t i = first_other(block, 0, skipped); i < count;
         i = first_other(block, i + 1, skipped)) {
      const unsigned value = std::to_integer<unsigned>(block[i]);
      for (unsigned bit = 0; bit < 8; ++bit) {
        const uint64_t cluster = (byte + i) * 8 + bit;
        const unsigned shift = order_ == BitOrder::least_first ? bit : 7 - bit;
        if (cluster >= at && ((value >> shift & 1U) != 0) == wanted) {
          return std::min(cluster, end);
        }
      }
    }
    at = (byte + count) * 8;
  }
  return end;
}

}  // namespace undershelf
