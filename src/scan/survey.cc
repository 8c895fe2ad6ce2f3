#include "scan/survey.h"

#include <algorithm>

namespace undershelf {

bool Survey::has_volume_in(int partition) const {
  return std::ranges::any_of(volumes,
                             [&](const FoundVolume& v) { return v.partition == partition; });
}

Survey survey(const SourcePtr& source, const ReadOptions& options) {
  Survey found;
  const ByteRange all{0, source->size()};
  ReadOptions with_header = options;
  with_header.headless = false;
  ReadOptions headless = options;
  headless.headless = true;
  const auto take = [&](const ByteRange& where, const ReadOptions& how, int partition) {
    if (auto reader = open_volume(source, where, how)) {
      found.volumes.push_back({std::move(reader), partition});
    }
  };
  take(all, with_header, 0);
  if (!found.volumes.empty()) return found;
  // An image does not tell in which sectors its map counts: those in which volumes are found.
  for (const uint32_t sector_size : {512U, 4096U}) {
    const Layout layout = read_layout(*source, sector_size);
    if (layout.scheme == "none") continue;
    if (found.layout.scheme == "none") found.layout = layout;
    for (const Partition& partition : layout.partitions) {
      if (!partition.container) take(partition.range, with_header, partition.number);
    }
    if (!found.volumes.empty()) {
      found.layout = layout;
      break;
    }
  }
  for (const Partition& partition : found.layout.partitions) {
    const bool open = !partition.container && !found.has_volume_in(partition.number);
    if (open) take(partition.range, headless, partition.number);
  }
  if (found.layout.partitions.empty()) take(all, headless, 0);
  return found;
}

}  // namespace undershelf
