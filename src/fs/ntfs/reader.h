// Live and deleted entries of a NTFS volume. Facts and method: docs/recovery/ntfs.md.
#pragma once

#include <memory>
#include <vector>

#include "fs/fs.h"
#include "fs/ntfs/geometry.h"
#include "model/pieces.h"

namespace undershelf::ntfs {

// What a sweep found of a volume whose own record of $MFT is lost, or another's by now.
struct Found {
  Pieces records;  // as for Mft
  struct Block {
    ByteRange range;      // of the source
    uint64_t folder = 0;  // reference
    bool only = false;    // no other volume can be the one it belongs to
  };
  std::vector<Block> blocks;  // index blocks
};

std::unique_ptr<VolumeReader> open(const SourcePtr& source, const ByteRange& where,
                                   const ReadOptions& options);

std::unique_ptr<VolumeReader> make_reader(const SourcePtr& source, const ByteRange& where,
                                          const Geometry& geometry, Found found);

}  // namespace undershelf::ntfs
