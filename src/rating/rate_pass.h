// Rates every stream in the shelf.
#pragma once

#include <cstdint>

#include "placing/claims.h"

namespace undershelf {

class Shelf;
class Spaces;

// Weighs every file's streams against the claims and against each other, and stores each verdict
// that differs from what is stored, and all that is lost. Repeatable.
void rate_streams(Shelf& shelf, const Claims& claims, const NextUsed& next_used, Spaces& spaces);

}  // namespace undershelf
