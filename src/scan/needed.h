// What of a source is needed first, when not all of it may be had: for copies of failing media.
#pragma once

#include <vector>

#include "model/budget.h"
#include "scan/survey.h"

namespace undershelf {

// What reading a volume may cost on a source of so many bytes. Some systems look at free clusters
// too, and at what others lead to once more; every row has some bytes of its own.
Budget::Limits limits_of_reading(uint64_t source_size);

// Reads everything that a quick scan of the source's volumes reads of their own structures, and
// keeps none of it: whoever gives the source keeps the bytes. Returns how many volumes there are.
// Throws Stopped.
size_t read_structures(const SourcePtr& source, const NameOther& name_other, Budget& budget);

// What the volumes' own accounts say is in use, in order. Throws Stopped.
std::vector<ByteRange> used_ranges(const SourcePtr& source, const NameOther& name_other,
                                   Budget& budget);

}  // namespace undershelf
