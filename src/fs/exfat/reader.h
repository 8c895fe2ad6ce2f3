// Live and deleted entries of a exFAT volume. Facts and method: docs/recovery/exfat.md.
#pragma once

#include <memory>

#include "fs/fs.h"

namespace undershelf::exfat {

std::unique_ptr<VolumeReader> open(const SourcePtr& source, const ByteRange& where,
                                   const ReadOptions& options);

}  // namespace undershelf::exfat
