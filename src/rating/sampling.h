// Looks at a little of each lost file's content.
#pragma once

namespace undershelf {

class Shelf;
class Spaces;

// Reads the beginning of the first, a middle and the last cluster of every lost file, in the order
// in which they lie, and stores which of them read as one repeated byte, which could
// not be read, and whether the file begins like its format. Repeatable.
void sample_lost_files(Shelf& shelf, Spaces& spaces);

}  // namespace undershelf
