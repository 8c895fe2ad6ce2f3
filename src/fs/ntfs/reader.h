// Live and deleted entries of a NTFS volume. Facts and method: docs/recovery/ntfs.md.
#pragma once

#include <memory>
#include <vector>

#include "fs/fs.h"
#include "fs/ntfs/found_names.h"
#include "fs/ntfs/geometry.h"
#include "model/pieces.h"

namespace undershelf::ntfs {

// What a sweep found of a volume whose own record of $MFT is lost, or another's by now.
struct Found {
  Pieces records;  // as for Mft
  std::vector<FoundNames> names;
};

std::unique_ptr<VolumeReader> open(const SourcePtr& source, const ByteRange& where,
                                   const ReadOptions& options);
// Likewise; `names`: what a sweep found besides in its free space.
std::unique_ptr<VolumeReader> open(const SourcePtr& source, const ByteRange& where,
                                   const ReadOptions& options, std::vector<FoundNames> names);

std::unique_ptr<VolumeReader> make_reader(const SourcePtr& source, const ByteRange& where,
                                          const Geometry& geometry, Found found);

}  // namespace undershelf::ntfs
