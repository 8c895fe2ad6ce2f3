#include "fs/chained/geometry.h"

#include <algorithm>

namespace undershelf::chained {

std::vector<VolumeRange> Geometry::ranges_of(const std::vector<Run>& runs) const {
  std::vector<VolumeRange> ranges;
  for (const Run& run : runs) {
    if (!is_cluster(run.first)) continue;
    const uint64_t most = uint64_t{cluster_count} + 2 - run.first;
    ranges.push_back({offset_of(run.first), std::min<uint64_t>(run.count, most) * cluster_size});
  }
  return ranges;
}

Volume Geometry::volume_at(uint64_t base) const {
  Volume volume;
  volume.serial = serial;
  volume.offset = base;
  volume.length = volume_size;
  volume.sector_size = sector_size;
  volume.cluster_size = cluster_size;
  volume.heap_offset = base + heap_offset;
  volume.cluster_count = cluster_count;
  volume.confidence = confidence;
  volume.notes = notes;
  return volume;
}

}  // namespace undershelf::chained
