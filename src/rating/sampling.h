// Looks at a little of each lost file's content.
#pragma once

#include <cstdint>

namespace undershelf {

class Shelf;
class Spaces;

// Reads the beginning of the first, a middle and the last cluster of every lost file, in the order
// in which they lie, and stores which of them read as one repeated byte, which could
// not be read, and whether the file begins like its format. Repeatable.
void sample_lost_files(Shelf& shelf, Spaces& spaces);

// Lost files of which samples were taken, and those of them that read blank (one repeated byte,
// 0x00 or 0xFF as a rule) in all of these.
struct SampledFiles {
  uint64_t sampled = 0, blank = 0;
  // So many read blank that it tells of the medium: one in 20.
  bool tells_of_discards() const { return blank > 0 && blank * 20 >= sampled; }
};
SampledFiles count_sampled(const Shelf& shelf);

}  // namespace undershelf
