// Finds entries that are one file seen twice.
#pragma once

#include <cstdint>
#include <vector>

#include "model/ids.h"

namespace undershelf {

class Budget;
class Shelf;

// A rename or a move leaves the old directory entry behind, marked deleted, with the same first
// cluster, size and times. Such an old entry becomes a former name of the entry that is kept: the
// living one, or the last of several deleted ones. Repeatable; ids never change, and the id of an
// entry merged into another resolves to it. `leaving`: ids of volumes on which renaming an empty
// file leaves such an entry too; it has no cluster to be known by.
void merge_twins(Shelf& shelf, const std::vector<VolumeId>& leaving, Budget& budget);

}  // namespace undershelf
