// Reads the content of an exFAT folder into entry sets: specification, sections 6 and 7.
#pragma once

#include <array>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "fs/exfat/ondisk.h"

namespace undershelf::exfat {

// Section 7.2: what each UTF-16 unit is folded to for name hashes.
class UpcaseTable {
 public:
  UpcaseTable();  // of ASCII letters only, as every table has them
  // The table as it is stored, with runs of unchanged units compressed.
  explicit UpcaseTable(std::span<const std::byte> stored);
  uint16_t hash(std::u16string_view name) const;  // section 7.6.4

 private:
  std::vector<char16_t> units_;
};

// A file or folder as its set describes it.
struct EntrySet {
  size_t slot = 0;        // number of its first entry in the folder
  bool in_use = false;    // its types have bit 7
  bool has_file = true;   // false if the first entry is overwritten: no times, no attributes
  bool intact = false;    // its checksum holds
  bool verified = false;  // so does that, or at least the hash of its name
  FileEntry file{};
  StreamEntry stream{};
  std::u16string name;
  unsigned others = 0;  // secondary entries of vendors, which are not read

  bool folder() const {
    return has_file && (file.FileAttributes.value() & kDirectoryAttribute) != 0;
  }
  bool contiguous() const { return (stream.GeneralSecondaryFlags & kNoFatChain) != 0; }
};

struct FolderContent {
  std::vector<EntrySet> sets;  // in order
  std::optional<std::u16string> label;
  std::vector<DirectoryEntry> bitmaps;   // in use
  std::optional<DirectoryEntry> upcase;  // in use
  size_t broken = 0;                     // sets in use whose checksum does not hold
};

constexpr size_t kMostSetEntries = 19;  // section 6.3.1: the file's, and up to 18 more

// Whether the specification has entries of that type, in use or not (section 7).
bool is_known_type(u8 type);

// The number of entries of the set with which `entries` begins, if one does and its checksum holds
// once the in-use bits are put back; else 0.
size_t intact_set(std::span<const DirectoryEntry> entries);

// If `entries`, a whole cluster, ends within a set: how many of its entries are there; else 0.
size_t cut_set(std::span<const DirectoryEntry> entries);

// Deleted sets count only if they verify once the in-use bits are put back. What stands behind the
// end mark is old: its sets are read as if deleted.
FolderContent parse_folder(std::span<const DirectoryEntry> entries, const UpcaseTable& upcase);

}  // namespace undershelf::exfat
