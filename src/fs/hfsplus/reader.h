// Live and deleted entries of a HFS+ volume. Facts and method: docs/recovery/hfsplus.md.
#pragma once

#include <memory>
#include <optional>

#include "fs/fs.h"
#include "fs/hfsplus/found.h"
#include "fs/hfsplus/geometry.h"

namespace undershelf::hfsplus {

// With `found` the volume is put together from those nodes; without, its header's trees are read.
std::unique_ptr<VolumeReader> make_reader(const VolumePlace& place, const Geometry& geometry,
                                          std::optional<Found> found);

// The age of a volume that can be read.
VolumeAge age_of(const SourcePtr& source, uint64_t start, const Geometry& geometry);

}  // namespace undershelf::hfsplus
