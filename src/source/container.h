// Files that contain a disk, or a compressed copy of one, and are not the disk itself.
#pragma once

#include <optional>
#include <string>

#include "source/source.h"

namespace undershelf {

// If the source is such a container, what it is and what to do, in two sentences: `what` begins the
// first, `file` is its name in the call of the second. What begins or ends like one but holds the
// disk's bytes in their places is none.
std::optional<std::string> container_advice(const Source& source, const std::string& what,
                                            const std::string& file);

}  // namespace undershelf
