// Pictures in a terminal that can show them.
#pragma once

#include <cstdint>
#include <string>
#include <utility>

#include "checking/preview.h"

namespace undershelf::cli {

// Pixels, across and down, that a picture may have in the terminal to which standard output and
// input are joined; zeros if there is none, or it does not announce sixel graphics when it is asked
// for its attributes (DA1, ECMA-48 8.3.24; extension 4). Waits for its answer, half a second at
// most.
std::pair<uint32_t, uint32_t> picture_room();

// The sixel graphics (DEC STD 070, chapter 9) of a picture.
std::string sixels_of(const checking::Preview& preview);

}  // namespace undershelf::cli
