#include "carving/grid.h"

#include <algorithm>
#include <unordered_map>

#include "shelf/shelf.h"

namespace undershelf::carving {

ClusterGrids::ClusterGrids(const Shelf& shelf, const std::vector<uint64_t>& starts) {
  for (const VolumeRecord& record : shelf.volumes(false)) {
    const Volume& volume = record.volume;
    if (record.space != SpaceId::source || volume.cluster_size == 0) continue;
    const uint64_t heap = volume.heap_offset;
    volumes_.push_back(
        {heap, volume.cluster_size, heap + uint64_t{volume.cluster_count} * volume.cluster_size});
  }
  // The largest clusters at whose beginnings nearly all files begin.
  constexpr size_t kLeast = 8, kOdd = 20;  // files; one in so many may begin elsewhere
  std::vector<uint64_t> outside;
  for (const uint64_t start : starts) {
    if (&grid_at(start) == &elsewhere_) outside.push_back(start);
  }
  if (outside.size() < kLeast) return;
  for (uint64_t size = 1024; size <= 128 << 10; size *= 2) {
    std::unordered_map<uint64_t, size_t> count;
    for (const uint64_t start : outside) ++count[start % size];
    const auto most = std::ranges::max_element(count, {}, [](const auto& c) { return c.second; });
    if (outside.size() - most->second > outside.size() / kOdd) break;
    elsewhere_ = {most->first, size, UINT64_MAX};
  }
}

const ClusterGrid& ClusterGrids::grid_at(uint64_t offset) const {
  const auto found = std::ranges::find_if(volumes_, [&](const ClusterGrid& grid) {
    return offset >= grid.heap_offset && offset < grid.heap_end;
  });
  return found == volumes_.end() ? elsewhere_ : *found;
}

uint64_t ClusterGrids::rounded_up(uint64_t offset) const {
  const ClusterGrid& grid = grid_at(offset);
  return offset <= grid.heap_offset ? grid.heap_offset : grid.rounded_up(offset);
}

}  // namespace undershelf::carving
