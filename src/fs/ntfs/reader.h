// Live and deleted entries of a NTFS volume. Facts and method: docs/recovery/ntfs.md.
#pragma once

#include <memory>

#include "fs/fs.h"

namespace undershelf::ntfs {

std::unique_ptr<VolumeReader> open(const SourcePtr& source, const ByteRange& where,
                                   const ReadOptions& options);

}  // namespace undershelf::ntfs
