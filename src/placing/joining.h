// Names without content and content without a name become one file again.
#pragma once

#include <cstdint>
#include <span>

#include "model/ids.h"

namespace undershelf {

class Budget;
class Shelf;

struct Joined {
  uint64_t files = 0;
};

// Lost files of which nothing tells where they lie get what was found by content alone (carving/)
// if their names stand for such content and nothing else fits as well:
//   - by size, where it is recorded: no other file of that kind has it;
//   - by order: what was written between two files that have their places is one of those that were
//     made between them. On `numbered` volumes an entry's key counts up;
//   - by kind, on these too: one such name and one find are left of a kind. The order of places may
//     speak against them ("only").
// The find is merged into the file with the name. Evidence `joined-by-size`, `joined-by-order`,
// `joined-by-kind` or `joined-by-kind-only`.
// Of the source only. Throws Stopped when the budget says so; then nothing was done.
Joined join_names(Shelf& shelf, std::span<const VolumeId> numbered, const Budget& budget);

// As if nothing had been joined: finds are entries of their own again, files are without a place.
void undo_joins(Shelf& shelf);

}  // namespace undershelf
