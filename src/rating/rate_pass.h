// Rates every stream in the shelf.
#pragma once

#include "rating/rating.h"
#include "shelf/claims.h"

namespace undershelf {

class Shelf;

// Weighs every file's streams against the claims and against each other, and stores what differs
// from what is stored. Repeatable. `source_size` in bytes.
void rate_streams(Shelf& shelf, const ClaimMap& claims, const NextUsed& next_used,
                  uint64_t source_size);

struct RatedStream {
  Facts facts;
  const Format* format = nullptr;
};

// The stored facts of stream `id`; for showing the reasons of its rating.
RatedStream load_facts(const Shelf& shelf, int64_t id);

}  // namespace undershelf
