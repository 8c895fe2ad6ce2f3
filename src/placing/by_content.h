// Places lost files by what their content says, where what was taken for their place breaks off.
#pragma once

#include <cstdint>

#include "placing/claims.h"

namespace undershelf {

class Budget;
class Shelf;
class Spaces;

struct PlacedByContent {
  uint64_t files = 0;     // that were placed anew
  uint64_t left_out = 0;  // that were not tried, or not to the end, as too much would be read
};

// Each plain lost file that was placed from its first cluster on, and that checking found to break
// off, is tried around what other lost files hold: those that begin in what was taken for its
// place, the nearest to the break first, then around a second and a third. What then adds up to its
// end keeps that place, and what was found of it there. At most twice the source is read.
// `progress` is told how many of how many files were tried. Throws Stopped when the budget says so,
// and what Box::run does.
PlacedByContent place_by_content(Shelf& shelf, Spaces& spaces, const Claims& claims,
                                 const Budget& budget);

}  // namespace undershelf
