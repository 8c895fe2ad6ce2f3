// Live and deleted entries of a FAT volume. Facts and method: docs/recovery/fat.md.
#pragma once

#include <memory>
#include <vector>

#include "fs/fat/geometry.h"
#include "fs/fs.h"

namespace undershelf::fat {

// What a sweep found of a volume, besides what its own structures lead to.
struct Found {
  bool swept = false;             // the rest was looked for
  std::vector<uint32_t> folders;  // clusters that begin a folder, by their own number; sorted
  std::vector<uint32_t> insides;  // other clusters that begin with entries; sorted
  std::vector<VolumeRange> root;  // parts of a former root folder
  bool former = false;            // where its root and its boot sector were lie others' now
};

std::unique_ptr<VolumeReader> make_reader(const VolumePlace& place, const Geometry& geometry,
                                          Found found);

}  // namespace undershelf::fat
