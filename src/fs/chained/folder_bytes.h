// A folder's entries as they lie on a volume, part by part.
#pragma once

#include <algorithm>
#include <span>
#include <vector>

#include "source/source.h"

namespace undershelf::chained {

// `Entry`: one of the folder's entries on the disk, without padding.
template <typename Entry>
struct FolderBytes {
  std::vector<Entry> entries;
  struct Part {
    size_t slot;      // first entry of the part
    uint64_t offset;  // byte in the volume
  };
  std::vector<Part> parts;

  // Byte in the volume at which an entry lies; there must be one.
  uint64_t offset_of(size_t slot) const {
    auto part = std::ranges::upper_bound(parts, slot, {}, &Part::slot);
    --part;
    return part->offset + (slot - part->slot) * sizeof(Entry);
  }
  // Reads one more part; what cannot be read is zero, and returned.
  ReadResult append(const Source& volume, const VolumeRange& range) {
    const size_t slot = entries.size();
    const size_t count = range.length / sizeof(Entry);
    parts.push_back({slot, range.offset});
    entries.resize(slot + count);
    return volume.read(range.offset,
                       std::as_writable_bytes(std::span(entries).subspan(slot, count)));
  }
};

}  // namespace undershelf::chained
