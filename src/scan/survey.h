// What is on a source: its map, and the volumes that are recognised. Stores nothing.
#pragma once

#include <memory>
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
  std::vector<FoundVolume> volumes;
  bool has_volume_in(int partition) const;
};

// A map counts if a volume begins where it says. Otherwise a volume from sector 0 on is taken, for
// a boot sector ends like a map: where both are there, the map was written over the beginning of
// what had been one volume. A volume without its header is looked for in partitions, or on the
// whole where there is no map.
Survey survey(const SourcePtr& source, const ReadOptions& options);

}  // namespace undershelf
