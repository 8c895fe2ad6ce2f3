// Live and deleted entries of a HFS+ volume. Facts and method: docs/recovery/hfsplus.md.
#pragma once

#include <memory>

#include "fs/fs.h"

namespace undershelf::hfsplus {

std::unique_ptr<VolumeReader> open(const SourcePtr& source, const ByteRange& where,
                                   const ReadOptions& options);

}  // namespace undershelf::hfsplus
