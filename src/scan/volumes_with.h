// Volumes by what their file systems have in common.
#pragma once

#include <vector>

#include "fs/fs.h"
#include "model/ids.h"
#include "shelf/shelf.h"

namespace undershelf {

// All of which that trait holds.
inline std::vector<VolumeId> volumes_with(const Shelf& shelf, bool Traits::*trait) {
  std::vector<VolumeId> volumes;
  for (const VolumeRecord& record : shelf.volumes(false)) {
    if (traits_of(record.volume.file_system).*trait) volumes.push_back(record.id);
  }
  return volumes;
}

}  // namespace undershelf
