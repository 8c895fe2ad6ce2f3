// What a volume hands out its space in: clusters (NTFS), allocation blocks (HFS+).
#pragma once

#include <algorithm>
#include <cstdint>

#include "model/pieces.h"

namespace undershelf {

struct UnitSpace {
  uint64_t base = 0;       // byte of the space at which the first unit starts
  uint64_t unit_size = 0;  // bytes
  uint64_t unit_count = 0;

  uint64_t size() const { return unit_size * unit_count; }  // bytes
  // Appends a run of units; those that the volume does not have are unknown. Returns the bytes of
  // these. Precondition: count * unit_size is less than 2^64.
  uint64_t append_run(Pieces& pieces, uint64_t first, uint64_t count) const {
    const uint64_t inside = first < unit_count ? std::min(count, unit_count - first) : 0;
    append_piece(pieces, {Piece::Kind::range, base + first * unit_size, inside * unit_size});
    append_piece(pieces, {Piece::Kind::unknown, 0, (count - inside) * unit_size});
    return (count - inside) * unit_size;
  }
};

}  // namespace undershelf
