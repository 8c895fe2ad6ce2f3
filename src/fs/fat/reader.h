// Live and deleted entries of a FAT volume. Facts and method: docs/recovery/fat.md.
#pragma once

#include <memory>

#include "fs/fs.h"

namespace undershelf::fat {

std::unique_ptr<VolumeReader> open(const SourcePtr& source, const ByteRange& where,
                                   const ReadOptions& options);

}  // namespace undershelf::fat
