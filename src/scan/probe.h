// Looks for volumes outside the partitions of a map: deleted ones, and all of them where the map is
// gone.
#pragma once

#include <memory>
#include <vector>

#include "fs/fs.h"

namespace undershelf {

// Volumes that begin and end in what `taken` (bytes of the source) leaves free. Looks for headers
// at each sector of the first MiB of every gap, then at each whole MiB of it, which is where
// partitioning programs begin them, and right behind what it found; some thousand places in all.
std::vector<std::unique_ptr<VolumeReader>> volumes_in_gaps(const SourcePtr& source,
                                                           std::vector<ByteRange> taken,
                                                           const ReadOptions& options);

}  // namespace undershelf
