// A bounded read-through cache, for tables that are consulted here and there (FATs, bitmaps).
#pragma once

#include <cstdint>
#include <span>
#include <vector>

#include "source/source.h"

namespace undershelf {

// Keeps at most `slots` blocks of 64 KiB in memory. Not to be shared between threads.
class CachedReader {
 public:
  explicit CachedReader(SourcePtr source, size_t slots = 64);
  // Fills `out`; false if any byte of the blocks touched could not be read (those read as zeros).
  bool read(uint64_t offset, std::span<std::byte> out);

 private:
  struct Slot {
    uint64_t block = UINT64_MAX;
    std::vector<BadRange> bad;
    std::vector<std::byte> bytes;
  };
  const Slot& load(uint64_t block);
  SourcePtr source_;
  std::vector<Slot> slots_;
};

}  // namespace undershelf
