// What is on a source: its map, and the volumes that are recognised. Stores nothing.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "fs/fs.h"
#include "layout/layout.h"

namespace undershelf {

struct FoundVolume {
  std::unique_ptr<VolumeReader> reader;
  int partition = 0;  // number in the map; 0 if it lies there without one
};

struct Survey {
  Layout layout;
  std::vector<FoundVolume> volumes;  // in the order of their places
  // Held by file systems that have no reader here: bytes of the source.
  std::vector<ByteRange> held_by_others;
  bool has_volume_in(int partition) const;
};

// The name of a file system at a place (bytes of the source) that has no reader here; empty if
// there is none.
using NameOther = std::function<std::string(const ByteRange&)>;

// A map counts if a volume begins where it says. Otherwise a volume from sector 0 on is taken, for
// a boot sector ends like a map: where both are there, the map was written over the beginning of
// what had been one volume. Volumes with a header are looked for inside partitions and between
// them before one without its header is: that in partitions, or on the whole where there is no map,
// and not where another system lies.
Survey survey(
    const SourcePtr& source, const ReadOptions& options,
    const NameOther& name_other = [](const ByteRange&) { return std::string(); });

// Likewise of a disk image in a file. Not to be guessed at: volumes without a header are not looked
// for.
Survey survey_image(const SourcePtr& file, const ReadOptions& options);

}  // namespace undershelf
