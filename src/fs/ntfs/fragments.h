// The parts of former $MFTs that are left, and what their records tell of the volumes they are of.
#pragma once

#include <optional>
#include <vector>

#include "fs/assembly/scene.h"
#include "fs/ntfs/free_names.h"

namespace undershelf::ntfs {

constexpr uint64_t kMostNumber = 16 << 20;  // of a record, unless very many were found

// A FILE record that nothing in use holds.
struct Placed {
  uint64_t number;
  uint64_t place;                 // byte of the source
  std::optional<Time> made = {};  // when its file got its name
};

// Records that lie as one table has them: the first one, number 0, would lie at `base`.
struct Fragment {
  int64_t base = 0;  // byte of the source; may lie before it
  uint32_t record_size = 0;
  std::vector<Placed> records;  // by number
  // What its records tell of the volume.
  std::vector<Pin> pins;         // cluster numbers with places, as index blocks show
  std::vector<KnownFile> files;  // whose content does not lie in their records
};

struct Fragments {
  std::vector<Fragment> all;    // of one life of a volume each
  std::vector<Pin> table_pins;  // where tables and their mirrors may begin
  uint64_t records = 0;         // found, on all of the source
};

// `names` has the index blocks to which folders' records lead.
Fragments find_fragments(const Scene& scene, const FreeNames& names);

}  // namespace undershelf::ntfs
