// Live and deleted entries of a NTFS volume. Facts and method: docs/recovery/ntfs.md.
#pragma once

#include <memory>
#include <optional>
#include <vector>

#include "fs/fs.h"
#include "fs/ntfs/found_names.h"
#include "fs/ntfs/geometry.h"
#include "model/pieces.h"

namespace undershelf::ntfs {

// What a sweep found of a volume.
struct Found {
  // As for Mft, where its own record of $MFT is lost, or another's by now.
  std::optional<Pieces> records;
  std::vector<FoundNames> names;  // besides, in its free space
};

std::unique_ptr<VolumeReader> make_reader(const VolumePlace& place, const Geometry& geometry,
                                          Found found);

}  // namespace undershelf::ntfs
