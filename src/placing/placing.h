// Turns open placements into pieces.
#pragma once

#include <cstdint>

#include "model/pieces.h"
#include "shelf/claims.h"

namespace undershelf {

// The clusters of a volume, as places on the source.
struct ClusterGrid {
  uint64_t heap_offset = 0;   // byte of the source at which the first cluster starts
  uint64_t cluster_size = 0;  // bytes
  uint64_t heap_end = 0;      // byte of the source behind the last cluster
};

// What to do about a claim that stands in the way of a lost stream.
enum class Obstacle {
  stepped_over,  // it was there first: the stream was written around it
  overwrote,     // it came later: the stream lay there
};

struct Placed {
  Pieces pieces;
  uint64_t gaps = 0;  // times a claim was stepped over
};

// Places `size` bytes contiguously from `first`, around the claims that were there before.
// `judge` is asked once for each claim in the way. What does not fit before the end of the heap is
// an unknown piece.
Placed place_contiguously(uint64_t first, uint64_t size, const ClusterGrid& grid,
                          const ClaimMap& claims,
                          const std::function<Obstacle(const Claim&)>& judge);

class Shelf;

// Decides every open placement in the shelf. Repeatable.
void place_open_streams(Shelf& shelf, const ClaimMap& claims);

}  // namespace undershelf
