// Where clusters begin: a fragment never begins inside one. For the room's own use.
#pragma once

#include <cstdint>
#include <vector>

#include "placing/contiguous.h"

namespace undershelf {
class Shelf;
}

namespace undershelf::carving {

class ClusterGrids {
 public:
  // Of the volumes on the source. `starts`: where files begin, in bytes of the source; outside of
  // the volumes they tell the size of clusters, and where they lie.
  ClusterGrids(const Shelf& shelf, const std::vector<uint64_t>& starts);
  // The next beginning of a cluster, or sector where clusters are not known, from `offset` on.
  uint64_t rounded_up(uint64_t offset) const;
  uint64_t cluster_at(uint64_t offset) const { return grid_at(offset).cluster_size; }

 private:
  const ClusterGrid& grid_at(uint64_t offset) const;
  std::vector<ClusterGrid> volumes_;
  ClusterGrid elsewhere_{0, 512, UINT64_MAX};
};

}  // namespace undershelf::carving
