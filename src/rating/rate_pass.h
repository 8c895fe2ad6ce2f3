// Rates every stream in the shelf.
#pragma once

#include <string>
#include <vector>

#include "rating/rating.h"
#include "shelf/claims.h"

namespace undershelf {

class Shelf;

// Weighs every file's streams against the claims and against each other, and stores each verdict
// that differs from what is stored, and all that is lost. Repeatable. `source_size` in bytes.
void rate_streams(Shelf& shelf, const ClaimMap& claims, const NextUsed& next_used,
                  uint64_t source_size);

// The reasons for the stored verdict on stream `id`, one plain sentence each; none if it has none.
std::vector<std::string> reasons_of(const Shelf& shelf, int64_t id);

}  // namespace undershelf
