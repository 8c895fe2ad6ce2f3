// B-trees: their nodes, and the records in nodes and behind them. TN1150, "B-Trees".
#pragma once

#include <cstring>
#include <functional>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "fs/hfsplus/ondisk.h"
#include "fs/load.h"
#include "source/source.h"

namespace undershelf::hfsplus {

using Bytes = std::span<const std::byte>;

std::u16string utf16_at(Bytes bytes, uint64_t offset, size_t units);

// Which of the three trees a node belongs to is told by its records' keys.
struct NodeRecords {
  std::vector<Bytes> records;  // in order; each with its key
  Bytes slack;                 // behind the last record
  bool sound = true;           // all offsets made sense
};

// Whether a node begins as a leaf's or an index node's does.
bool looks_like_node(Bytes node, u8 kind);
// The records of a node, by the offsets at its end. Those that overlap or lead outside are left
// out.
NodeRecords records_of(Bytes node);

// Not to be shared between threads.
class BTree {
 public:
  // `stream` is the tree's file. A header of rubbish leaves the node size to be found by trying.
  explicit BTree(SourcePtr stream);
  // Nodes of a known size, none of them a header: the first `used` count as used.
  BTree(SourcePtr stream, size_t node_size, uint64_t used)
      : stream_(std::move(stream)), node_size_(node_size), used_(used) {}

  size_t node_size() const { return node_size_; }  // bytes
  bool header_sound() const { return header_sound_; }
  uint64_t node_count() const { return stream_->size() / node_size_; }
  enum class Use { used, free, unreadable };
  // Calls `visit` with each node but the header, in order, from one pass over the file, until it
  // returns false. Without a sound map every node that looks like one counts as used.
  void each(const std::function<bool(uint64_t number, Use use, Bytes node)>& visit);

 private:
  void load_map();
  SourcePtr stream_;
  size_t node_size_ = 0;
  bool header_sound_ = false;
  uint64_t used_ = UINT64_MAX;  // nodes, if there is no map
  std::vector<std::byte> map_;  // a bit a node, the most significant first
};

}  // namespace undershelf::hfsplus
