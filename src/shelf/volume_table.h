// All volumes of a shelf at hand, for loops over many rows: to join them to each row takes longer
// than the row. For the library's own use.
#pragma once

#include <algorithm>
#include <vector>

#include "shelf/shelf.h"

namespace undershelf {

// As they were when it was made. May be shared between threads.
class VolumeTable {
 public:
  explicit VolumeTable(const Shelf& shelf) : records_(shelf.volumes(false)) {
    std::ranges::sort(records_, {}, &VolumeRecord::id);
  }
  // Null if there is none of that id, as for entries on no volume.
  const VolumeRecord* find(VolumeId id) const {
    const auto found = std::ranges::lower_bound(records_, id, {}, &VolumeRecord::id);
    return found != records_.end() && found->id == id ? &*found : nullptr;
  }

 private:
  std::vector<VolumeRecord> records_;
};

}  // namespace undershelf
