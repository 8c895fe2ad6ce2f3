// Living entries that claim the same clusters.
#pragma once

#include "placing/claims.h"

namespace undershelf {

// Stores them as damage of the source: one of each two is damaged. Repeatable.
void note_disputes(Shelf& shelf, const Claims& claims);

}  // namespace undershelf
