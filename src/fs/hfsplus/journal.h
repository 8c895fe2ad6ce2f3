// The journal, as far as it holds earlier copies of nodes. TN1150, "Journal".
#pragma once

#include "fs/hfsplus/btree.h"

namespace undershelf::hfsplus {

// Where the journal lies, from its info block; length 0 if the volume has none of its own.
ByteRange journal_range(const Source& volume, const VolumeHeader& header);

// What the journal's header at the beginning of `bytes` says of its size, header and all (bytes);
// in either byte order. Nothing if none is there.
std::optional<uint64_t> journal_size(Bytes bytes);

// Calls `visit` with each block of a journal's ring that looks like a leaf node of one of these
// sizes (bytes), replayed transactions included. The ring may wrap inside a node.
void each_journaled_node(const Source& volume, const ByteRange& journal,
                         const std::vector<size_t>& node_sizes,
                         const std::function<void(Bytes node)>& visit);

}  // namespace undershelf::hfsplus
