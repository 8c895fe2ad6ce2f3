// Where the content of what was selected lies.
#pragma once

#include <vector>

#include "shelf/selection.h"

namespace undershelf {

struct Places {
  std::vector<ByteRange> ranges;  // bytes of the source, in order, not overlapping
  uint64_t files = 0;             // whose content lies there
  uint64_t elsewhere = 0;  // files whose content lies on a disk image, or nowhere that is known
};

Places places_of(const Shelf& shelf, const Selection& selection);

}  // namespace undershelf
