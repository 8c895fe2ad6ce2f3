// A folder's entries as they lie on a volume, part by part.
#pragma once

#include <span>
#include <vector>

#include "fs/fat/folder.h"
#include "source/source.h"

namespace undershelf::fat {

struct Content {
  std::vector<DirectoryEntry> entries;
  struct Part {
    size_t slot;      // first entry of the part
    uint64_t offset;  // byte in the volume
  };
  std::vector<Part> parts;

  // Byte in the volume at which an entry lies.
  uint64_t offset_of(size_t slot) const;
  // Reads one more part; what cannot be read is zero, and returned.
  ReadResult append(const Source& volume, const ByteRange& range);
};

// Whether `after` can be the cluster that follows `before` in a folder. `proven`: the slots of a
// long name are cut by the end of `before`, and `after` completes them; `doubtful`: it seems to
// begin within a name of which `before` has nothing.
enum class Step : uint8_t { none, doubtful, fits, proven };
Step step_between(std::span<const DirectoryEntry> before, std::span<const DirectoryEntry> after);

// Whether a cluster's first entry must have more of its name before it: a slot that is not the
// topmost, or an alias without slots.
bool begins_within_name(const DirectoryEntry& first);

// Whether a folder begins with these entries whose own first cluster is `cluster`.
bool begins_folder(std::span<const DirectoryEntry> entries, uint32_t cluster,
                   const Geometry& geometry);

}  // namespace undershelf::fat
