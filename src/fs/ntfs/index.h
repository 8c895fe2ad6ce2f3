// Folder indexes: what stands in them, and what stands behind that.
#pragma once

#include <functional>

#include "fs/ntfs/file.h"

namespace undershelf::ntfs {

// A file as an index entry, a journal or the log names it.
struct Sighting {
  uint64_t reference = 0;  // of the file; 0 where that part was overwritten
  FoundName name;
  bool current = false;         // in a part of an index that is in use
  std::optional<Time> seen;     // when that was so
  std::optional<Time> deleted;  // when the file was deleted, where that is told
};
using Sight = std::function<void(const Sighting&)>;

// A node: an IndexHeader at the start of `node`, its entries, and the slack behind them. `in_use`
// false: all of it is old. `folder`: the number of the record it belongs to. False if the entries
// in use break off; the rest is read as slack then.
bool read_index_node(std::span<const std::byte> node, uint64_t folder, bool in_use,
                     const Sight& sight);

// Looks for old entries at every 8 bytes of `bytes`, also such as newer ones, or the marks of an
// index's and a record's end, have overwritten in part. Where nothing but the name survives of one,
// `folder` must be its parent. `before` bytes in front of the range are no slack any more, but an
// entry whose name is in the slack may have begun there.
void read_index_slack(std::span<const std::byte> bytes, size_t before, uint64_t folder,
                      const Sight& sight);

}  // namespace undershelf::ntfs
