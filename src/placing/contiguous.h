// Places a stream that lies contiguously, but for what was in its way.
#pragma once

#include <cstdint>
#include <functional>

#include "model/pieces.h"
#include "model/range.h"

namespace undershelf {

// The clusters of a volume, as places on its space.
struct ClusterGrid {
  uint64_t heap_offset = 0;   // byte of the space at which the first cluster starts
  uint64_t cluster_size = 0;  // bytes
  uint64_t heap_end = 0;      // byte of the space behind the last cluster

  // What one step of the high half of a 32-bit cluster number stands for.
  uint64_t high_step() const { return 65536 * cluster_size; }
  // The start of the cluster in which `offset` lies, or of the next one if it is inside.
  uint64_t rounded_up(uint64_t offset) const {
    return heap_offset + (offset - heap_offset + cluster_size - 1) / cluster_size * cluster_size;
  }
};

// What holds a place on the way of a lost stream.
struct Obstacle {
  ByteRange range;            // of the space; covers the place, or starts behind it
  bool stepped_over = false;  // it was there first; otherwise the stream lay there before it
};

struct Placed {
  Pieces pieces;
  uint64_t gaps = 0;  // times an obstacle was stepped over
};

// Places `size` bytes contiguously from `first`, a cluster of the grid, around the obstacles that
// were there before. `next` tells the obstacle at or behind a place; length 0 if there is none.
// What does not fit before the end of the heap is an unknown piece.
Placed place_contiguously(uint64_t first, uint64_t size, const ClusterGrid& grid,
                          const std::function<Obstacle(uint64_t)>& next);

}  // namespace undershelf
