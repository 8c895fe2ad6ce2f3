// Reads the content of a FAT folder into what stands in it.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <vector>

#include "fs/fat/geometry.h"
#include "fs/fat/names.h"
#include "model/time.h"

namespace undershelf::fat {

struct FolderEntry {
  size_t slot = 0;  // number of the 8.3 entry in the folder
  DirectoryEntry raw{};
  Name name;
  bool deleted = false;  // marked so, or standing behind the end of the folder
  bool marked = false;   // marked so
  bool odd = false;      // forbidden, though all its numbers make sense
};

struct FolderContent {
  std::vector<FolderEntry> entries;
  std::optional<std::string> label;  // of the volume-label entry, if any
  size_t rejected = 0;               // slots in use that hold no entry of a folder
  size_t broken_names = 0;           // entries in use whose long name is damaged
  bool ended = false;                // an end mark was seen
};

// How much is asked of an entry before it is believed.
enum class Trust {
  live,       // a folder in use
  deleted,    // a deleted folder, whose clusters may hold other things by now
  candidate,  // a cluster of which it is not known that it was a folder's
};

// Parses whole clusters (or the fixed root). `.` and `..` are left out. Entries behind the end
// mark are read too, as deleted ones.
FolderContent parse_folder(std::span<const DirectoryEntry> entries, const Geometry& geometry,
                           Trust trust, const CodePage& code_page);

// Whether a cluster looks like the inside of a folder: nothing but believable entries.
bool looks_like_continuation(std::span<const DirectoryEntry> entries, const Geometry& geometry);

// Whether a sector of which nothing is known holds entries of a folder, up to where they end.
bool looks_like_entries(std::span<const DirectoryEntry> entries);

// Whether an entry has the attributes of a slot of a long name.
inline bool is_long_slot(const DirectoryEntry& entry) {
  return (entry.DIR_Attr & kAttrLongNameMask) == kAttrLongName;
}

// Local times; nothing for 0 or an impossible date ("FAT Directory Structure", date and time).
std::optional<Time> created_time(const DirectoryEntry& entry);
std::optional<Time> modified_time(const DirectoryEntry& entry);
std::optional<Time> accessed_date(const DirectoryEntry& entry);

}  // namespace undershelf::fat
