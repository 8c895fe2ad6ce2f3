// Live and deleted entries of a exFAT volume. Facts and method: docs/recovery/exfat.md.
#pragma once

#include <memory>
#include <vector>

#include "fs/exfat/geometry.h"
#include "fs/fs.h"

namespace undershelf::exfat {

// What a sweep found of a volume, besides what its root leads to.
struct Found {
  std::vector<uint32_t> folders;  // clusters that begin with entry sets, sorted
  bool former = false;            // its root and its tables are others' now
};

// A root cluster of 0 in `geometry`: where it was is not known.
std::unique_ptr<VolumeReader> make_reader(const VolumePlace& place, const Geometry& geometry,
                                          Found found);

}  // namespace undershelf::exfat
