// Looks at a little of each lost file's content.
#pragma once

#include "source/source.h"

namespace undershelf {

class Shelf;

// Reads the beginning of the first, a middle and the last cluster of every lost file, in the order
// in which they lie on the source, and stores which of them read as one repeated byte, which could
// not be read, and whether the file begins like its format. Repeatable.
void sample_lost_files(Shelf& shelf, const SourcePtr& source);

}  // namespace undershelf
