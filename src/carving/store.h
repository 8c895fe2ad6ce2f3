// Keeps finds as entries without a volume. For the room's own use.
#pragma once

#include <cstdint>

#include "carving/find.h"

namespace undershelf {
class Shelf;
}

namespace undershelf::carving {

// An entry that lies where one did keeps its id. `all`: those of an earlier run that are not among
// them are dropped. Returns how many finds have no name.
uint64_t store(Shelf& shelf, const Finds& finds, bool all);

}  // namespace undershelf::carving
