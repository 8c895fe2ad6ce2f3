// A folder's entries as they lie on a volume, and how they go on from cluster to cluster.
#pragma once

#include <span>
#include <vector>

#include "fs/chained/folder_bytes.h"
#include "fs/fat/folder.h"

namespace undershelf::fat {

using Content = chained::FolderBytes<DirectoryEntry>;

// Whether `after` can be the cluster that follows `before` in a folder. `proven`: the slots of a
// long name are cut by the end of `before`, and `after` completes them; `doubtful`: it seems to
// begin within a name of which `before` has nothing.
enum class Step : uint8_t { none, doubtful, fits, proven };
Step step_between(std::span<const DirectoryEntry> before, std::span<const DirectoryEntry> after);

// Whether a cluster's first entry must have more of its name before it: a slot that is not the
// topmost, or an alias without slots.
bool begins_within_name(const DirectoryEntry& first);

// The first two entries of a folder that begins with a cluster: `.` and `..`.
Content load_start(const Source& volume, const Geometry& geometry, uint32_t cluster);
// Whether a folder begins with these entries whose own first cluster is `cluster`.
bool begins_folder(std::span<const DirectoryEntry> entries, uint32_t cluster,
                   const Geometry& geometry);

}  // namespace undershelf::fat
