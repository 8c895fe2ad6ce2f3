// Sources that are in use while they are looked at.
#pragma once

#include <string>

#include "source/device.h"

namespace undershelf::cli {

// Warns of each use of a source that may write to it.
void warn_of_use(const std::string& path, const SourceUse& use);

// Likewise, and throws Error (refused) if a volume of it is mounted for writing and that was not
// allowed: it changes while it is read, and lost files may be written over.
void refuse_in_use(const std::string& path, bool mounted_anyway);

}  // namespace undershelf::cli
