// The Apple partition map: "Inside Macintosh: Devices", chapter 3, "The Partition Map". All fields
// are big-endian.
#pragma once

#include <optional>

#include "layout/layout.h"

namespace undershelf {

// Nothing if there is no such map.
std::optional<Layout> read_apm(const Source& source);

}  // namespace undershelf
