#include "scan/survey.h"

#include <fmt/format.h>

#include <algorithm>

#include "scan/probe.h"

namespace undershelf {

bool Survey::has_volume_in(int partition) const {
  return std::ranges::any_of(volumes,
                             [&](const FoundVolume& v) { return v.partition == partition; });
}

namespace {

// What the map does not tell of, and what it tells otherwise than it is.
void look_between(Survey& found, const SourcePtr& source, const ReadOptions& options) {
  std::vector<ByteRange> taken;
  for (const Partition& partition : found.layout.partitions) {
    if (!partition.container) taken.push_back(partition.range);
  }
  for (const FoundVolume& volume : found.volumes) {
    const Volume& v = volume.reader->volume();
    taken.push_back({v.offset, v.length});
    for (const Partition& partition : found.layout.partitions) {
      const uint64_t end = v.offset + v.length;
      if (partition.number != volume.partition || end <= partition.range.end()) continue;
      found.layout.notes.push_back(fmt::format(
          "The {} volume in partition {} ends {} bytes behind the partition: the map was "
          "changed after the volume was made, or is wrong.",
          v.file_system, partition.number, end - partition.range.end()));
    }
  }
  const bool mapped = !found.layout.partitions.empty();
  for (auto& reader : volumes_in_gaps(source, taken, options)) {
    const Volume& v = reader->volume();
    found.layout.notes.push_back(fmt::format(
        "A {} volume at byte {} lies in no partition: {}.", v.file_system, v.offset,
        mapped ? "its partition was deleted, or the map is wrong" : "the partition map is lost"));
    found.volumes.push_back({std::move(reader), 0});
  }
}

}  // namespace

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
  if (found.volumes.empty()) {
    take(all, with_header, 0);
    if (!found.volumes.empty()) {
      found.layout = {};  // a boot sector ends like a map
      look_between(found, source, with_header);
      return found;
    }
  }
  for (const Partition& partition : found.layout.partitions) {
    const bool open = !partition.container && !found.has_volume_in(partition.number);
    if (open) take(partition.range, headless, partition.number);
  }
  look_between(found, source, with_header);
  if (found.layout.partitions.empty() && found.volumes.empty()) take(all, headless, 0);
  return found;
}

}  // namespace undershelf
