#include "placing/contiguous.h"

#include <algorithm>

namespace undershelf {

Placed place_contiguously(uint64_t first, uint64_t size, const ClusterGrid& grid,
                          const std::function<Obstacle(uint64_t)>& next) {
  Placed placed;
  uint64_t at = first;
  uint64_t left = size;
  while (left > 0 && at < grid.heap_end) {
    const Obstacle obstacle = next(at);
    uint64_t until = grid.heap_end;
    if (obstacle.range.length > 0) {
      if (obstacle.range.offset > at) {
        until = std::min(until, obstacle.range.offset);
      } else {
        until = std::min(until, grid.rounded_up(obstacle.range.end()));
        // The first cluster is recorded, so it can only be overwritten.
        if (obstacle.stepped_over && at != first) {
          at = until;
          ++placed.gaps;
          continue;
        }
      }
    }
    const uint64_t take = std::min(left, until - at);
    append_piece(placed.pieces, {Piece::Kind::range, at, take});
    at += take;
    left -= take;
  }
  append_piece(placed.pieces, {Piece::Kind::unknown, 0, left});
  return placed;
}

}  // namespace undershelf
