// Run lists: where a non-resident attribute lies.
#pragma once

#include "fs/ntfs/record.h"
#include "fs/unit_space.h"
#include "model/pieces.h"

namespace undershelf::ntfs {

struct Runs {
  Pieces pieces;        // ranges of the space, zeros where sparse, unknown where impossible
  bool sound = true;    // false if the list breaks off or leads outside the volume
  uint64_t length = 0;  // bytes that the pieces add up to
};

// Decodes the mapping pairs of a non-resident attribute (documentation, "Data Runs"). They stop at
// the attribute's highest VCN.
Runs decode_runs(const Attribute& attribute, const NonResidentPart& part, const UnitSpace& space);

}  // namespace undershelf::ntfs
