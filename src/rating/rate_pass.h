// Rates every stream in the shelf.
#pragma once

#include <cstdint>

#include "placing/claims.h"

namespace undershelf {

class Shelf;

// Weighs every file's streams against the claims and against each other, and stores each verdict
// that differs from what is stored, and all that is lost. Repeatable. `source_size` in bytes.
void rate_streams(Shelf& shelf, const ClaimMap& claims, const NextUsed& next_used,
                  uint64_t source_size);

}  // namespace undershelf
