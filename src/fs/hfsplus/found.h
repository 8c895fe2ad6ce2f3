// What a sweep found of volumes whose trees are lost, or another's by now.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <vector>

#include "fs/detector.h"
#include "fs/hfsplus/generations.h"
#include "fs/hfsplus/remnants.h"
#include "fs/trace_kinds.h"
#include "source/source.h"

namespace undershelf::hfsplus {

struct Found {
  struct Nodes {
    Trace trace;              // leaf nodes (kLeafNodes) that follow each other
    bool slack_only = false;  // in use by another volume's tree: only what stands behind is older
  };
  std::vector<Nodes> nodes;
  std::optional<VolumeAge> older_than;  // only records from before the volume that is there now
  // Of several former volumes, whose records are asked for; null: there is but one.
  std::shared_ptr<const Generations> generations;
  size_t generation = 0;

  // Joins `node` to the nodes before it, if it follows them.
  void add(const Trace& node, bool slack_only);
};

// Calls `record` with what is in the nodes of one tree, and `slack` with what stands behind that.
void each_found(const Source& source, const Found& found, Tree tree,
                const std::function<void(std::span<const Bytes>)>& records,
                const std::function<void(Bytes)>& slack);
// Calls `visit` with every record of the catalog that is asked for, in use or stale.
void each_catalog_record(const Source& source, const Found& found,
                         const std::function<void(const CatalogRecord&)>& visit);

}  // namespace undershelf::hfsplus
