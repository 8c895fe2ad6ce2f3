// Looks for volumes by their headers where no map says that one begins.
#pragma once

#include <memory>
#include <vector>

#include "fs/fs.h"

namespace undershelf {

struct Probed {
  std::vector<std::unique_ptr<VolumeReader>> found;
  // Volumes whose header stands there, but that reach beyond: something younger lies on them.
  std::vector<Volume> reaching;
};

// Volumes that begin and end in `where` (bytes of the source). Looks for headers at each sector of
// the first MiB, then at each whole MiB, which is where partitioning programs begin them, and right
// behind what it found; some thousand places in all.
Probed volumes_in(const SourcePtr& source, const ByteRange& where, const ReadOptions& options);

// Likewise in all that `taken` (bytes of the source) leaves free.
Probed volumes_in_gaps(const SourcePtr& source, std::vector<ByteRange> taken,
                       const ReadOptions& options);

// Where a volume begins that lies at no multiple of 512 bytes, near the start of a source: byte of
// it. Nothing if there is none.
std::optional<uint64_t> odd_beginning(const SourcePtr& source);

}  // namespace undershelf
