// Where a JPEG that lies in two pieces goes on, told by its entropy-coded data (ITU-T T.81, annexes
// F and G): what is another file's soon has a code that is none, or does not end where it must.
#pragma once

#include <cstdint>
#include <optional>

#include "content/bytes.h"

namespace undershelf::content {

struct JpegCut {
  uint64_t at = 0;   // byte of the file: a multiple of the cluster
  uint64_t gap = 0;  // bytes left out there: likewise
};

// The cut, behind byte `after`, with which what begins there decodes to its end mark, or else the
// one with which it decodes much further than without. Nothing if there is none, or if the kind of
// JPEG is not known (lossless, arithmetic). `most`: clusters that a gap may have.
std::optional<JpegCut> find_jpeg_cut(Bytes& bytes, uint64_t cluster, uint64_t after, uint64_t most);

}  // namespace undershelf::content
