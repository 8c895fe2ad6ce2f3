// Volumes that begin before the space they are read from: the first bytes of an image are missing.
#pragma once

#include <memory>

#include "fs/fs.h"

namespace undershelf {

// Opens the volume whose own structures say that it begins so many bytes before `place.where`: in
// the space itself, if that reaches so far, or before its first byte. Of the latter, what lies
// before the space is known to be missing, and all else in its place. Null if there is none.
std::unique_ptr<VolumeReader> open_from_before(const FileSystem& system, const VolumePlace& place,
                                               uint64_t bytes);

}  // namespace undershelf
