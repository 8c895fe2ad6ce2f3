// What stands behind the end of a file, in the sector of its last byte: drivers fill the rest of it
// with zeros. Where a file is thought to end at a place at which it does not, something of a middle
// stands there instead.
#pragma once

#include <cstdint>

#include "model/pieces.h"
#include "source/source.h"

namespace undershelf {

// No rest of a sector; zeros, as its own last bytes are; zeros; something else.
enum class Behind : uint8_t { not_told, blank, zeros, more };

// `last`: the file's last piece, a range of `source`, not empty. `not_told` too if it cannot be
// read.
Behind behind_end(const Piece& last, const Source& source);

}  // namespace undershelf
