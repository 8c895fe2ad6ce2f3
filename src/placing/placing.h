// Turns open placements into pieces.
#pragma once

#include "placing/claims.h"

namespace undershelf {

class Budget;
class Shelf;
class Spaces;

// Decides every open placement in the shelf, oldest file first: around living files and older lost
// ones, and what is in use though its owner was not found. Repeatable. Where `spaces` is given, the
// beginnings of files in dispute are looked at. Throws what `budget` does; nothing is then changed.
void place_open_streams(Shelf& shelf, const Claims& claims, const NextUsed& next_used,
                        Spaces* spaces, Budget& budget);

}  // namespace undershelf
