// Where a B-tree lies whose header is lost, told by how its leaf nodes point at each other.
#pragma once

#include <optional>
#include <vector>

#include "fs/detector.h"
#include "source/source.h"

namespace undershelf::hfsplus {

struct LeafChain {
  uint64_t tree = 0;       // byte of the source at which its node 0 lies
  uint64_t node_size = 0;  // bytes
  uint32_t highest = 0;    // number of a leaf
};

// `runs`: leaf nodes (kLeafNodes) of one kind of tree. Each leaf tells the numbers of the ones
// before and after it (TN1150, "Node Descriptors"): two that follow each other tell where the tree
// begins. Nothing unless all leaves from the first to the last are where they then must be: a tree
// in several pieces, or of a single leaf, is not found.
std::optional<LeafChain> find_leaf_chain(const Source& source, const std::vector<Trace>& runs);

}  // namespace undershelf::hfsplus
