// Names for files that have none, from what they say of themselves. For the room's own use.
#pragma once

#include <cstdint>
#include <string>

#include "checking/examine.h"

namespace undershelf::carving {

// `2024-06-01 14.22 Basalt K3 4000x3000.jpg`; where the file says nothing, the byte of the source
// at which it begins. UTF-8 that any system takes as a name.
std::string name_of(const checking::Examined& found, uint64_t start);

}  // namespace undershelf::carving
