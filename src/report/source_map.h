// Where on the source lies what: living and lost content, and what is in none.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <string_view>
#include <vector>

#include "shelf/shelf.h"

namespace undershelf {

// What a byte of the source is. Of several that are true of one, the first counts.
enum class Ground : uint8_t {
  unreadable,
  overwritten,  // a lost file lay here, and something else lies here now
  living,
  structures,  // a file system's own
  intact,      // of a lost file, and believed to be its own
  unsure,      // of a lost file, for all that is known, but nothing proves it
  blank,       // of a lost file; it reads as one repeated byte
  unread,      // not reached by a deep scan that was begun
  free,        // in a volume, and nothing that is known lies here
  outside,     // in no volume
};
constexpr size_t kGrounds = 10;
std::string_view word_of(Ground ground);  // stable, for scripts
std::string_view told_as(Ground ground);  // in a legend

struct SourceMap {
  uint64_t cell_bytes = 0;  // of the source, in each cell; the last may have fewer
  std::vector<std::array<uint64_t, kGrounds>> cells;  // bytes of each ground
  std::array<uint64_t, kGrounds> sums{};              // likewise, of all
  Ground most_of(size_t cell) const;                  // the ground of most of its bytes
};

// At most `most` cells, of whole sectors each. n log n in the pieces that the shelf knows of, of
// which it holds 24 bytes each.
SourceMap map_source(const Shelf& shelf, size_t most);

}  // namespace undershelf
