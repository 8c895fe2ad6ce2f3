// A catalog without header, found by the links between its leaves.
#pragma once

#include <optional>
#include <vector>

#include "fs/detector.h"
#include "source/source.h"

namespace undershelf::hfsplus {

struct LeafChain {
  uint64_t node_size = 0;        // bytes
  std::vector<uint64_t> places;  // of all leaves in the order of their keys: bytes of the source
};

// `runs`: leaf nodes (kLeafNodes) of catalogs. A leaf tells the numbers of the ones before and
// after it (TN1150, "Node Descriptors"), not its own: that is what its neighbours in the order of
// keys call it. Nothing unless there is a chain from a first leaf to a last one; the longest, if
// there are several. The tree may lie in any number of pieces.
std::optional<LeafChain> find_leaf_chain(const Source& source, const std::vector<Trace>& runs);

}  // namespace undershelf::hfsplus
