// Live and deleted entries of a HFS+ volume. Facts and method: docs/recovery/hfsplus.md.
#pragma once

#include <memory>
#include <optional>
#include <vector>

#include "fs/fs.h"
#include "fs/hfsplus/detector.h"
#include "fs/hfsplus/geometry.h"
#include "fs/hfsplus/remnants.h"

namespace undershelf::hfsplus {

// What a sweep found of a volume whose trees are lost, or another's by now.
struct Found {
  struct Nodes {
    Trace trace;              // leaf nodes (kLeafNodes) that follow each other
    bool slack_only = false;  // in use by another volume's tree: only what stands behind is older
  };
  std::vector<Nodes> nodes;
  std::optional<VolumeAge> older_than;  // only records from before the volume that is there now
};

std::unique_ptr<VolumeReader> open(const SourcePtr& source, const ByteRange& where,
                                   const ReadOptions& options);

// With `found` the volume is put together from those nodes; without, its header's trees are read.
std::unique_ptr<VolumeReader> make_reader(const SourcePtr& source, const ByteRange& where,
                                          const Geometry& geometry, std::optional<Found> found);

// The age of a volume that can be read.
VolumeAge age_of(const SourcePtr& source, uint64_t start, const Geometry& geometry);

}  // namespace undershelf::hfsplus
