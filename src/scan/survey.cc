#include "scan/survey.h"

#include <algorithm>

namespace undershelf {

bool Survey::has_volume_in(int partition) const {
  return std::ranges::any_of(volumes,
                             [&](const FoundVolume& v) { return v.partition == partition; });
}

Survey survey(const SourcePtr& source, const ReadOptions& options) {
  Survey found;
  if (auto reader = open_volume(source, {0, source->size()}, options)) {
    found.layout.scheme = "none";
    found.volumes.push_back({std::move(reader), 0});
    return found;
  }
  found.layout = read_layout(*source);
  for (const Partition& partition : found.layout.partitions) {
    if (auto reader = open_volume(source, partition.range, options)) {
      found.volumes.push_back({std::move(reader), partition.number});
    }
  }
  return found;
}

}  // namespace undershelf
