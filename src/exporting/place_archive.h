// How a finished archive comes to its place. For the exporting folder's own use.
#pragma once

#include <string>

#include "exporting/target_file.h"

namespace undershelf {

constexpr const char* kNoneWasLeft = "The archive could not be completed, so none was left.";

// A new file at `part`, instead of whatever file or link an archive that was killed left there.
// Throws TargetFailed.
Descriptor create_part(const std::string& part);

// Moves what is on the medium to `path`, where nothing may be. Throws TargetFailed.
void move_archive(const std::string& part, const std::string& path);

}  // namespace undershelf
