// The file allocation table: single entries and chains.
#pragma once

#include <string_view>
#include <vector>

#include "fs/fat/geometry.h"
#include "source/cache.h"

namespace undershelf::fat {

// Clusters that follow each other on the medium.
struct Run {
  uint32_t first = 0;
  uint32_t count = 0;  // clusters
};

struct Chain {
  enum class End {
    marked,        // an end-of-chain mark
    enough,        // as long as was asked, and it goes on
    free_cluster,  // runs into a cluster that is free
    bad_cluster,   // runs into the bad-cluster mark
    outside,       // names a cluster that the volume has not
    loop,          // comes back to itself; the repetition is left out
    unreadable,    // the FAT cannot be read there
  };
  std::vector<Run> runs;
  uint64_t clusters = 0;
  End end = End::marked;
};

std::string_view to_text(Chain::End end);  // "ends in a cluster that is free", ...

// Reads through a bounded cache. Not to be shared between threads.
class Table {
 public:
  enum class Use { free, used, bad, unreadable };
  Table(SourcePtr volume, const Geometry& geometry);

  // The chain from `first` on, of at most `most` clusters, in FAT number `copy`.
  Chain chain(uint32_t first, uint64_t most, unsigned copy);
  // The FAT that is kept up to date, 0 unless the boot sector names another.
  unsigned main_copy() const { return geometry_.active_fat.value_or(0); }
  // Section "FAT Data Structure", ClnShutBitMask and HrdErrBitMask of FAT[1]. FAT12 has none.
  struct Flags {
    bool clean = true;      // unmounted cleanly
    bool no_errors = true;  // no read or write error was met
  };
  Flags flags();
  // How the main copy marks a cluster; one the FAT is too short for counts as unreadable.
  Use use(uint32_t cluster);

 private:
  struct Link {
    uint32_t value = 0;
    bool readable = false;
  };
  Link link(uint32_t cluster, unsigned copy);

  Geometry geometry_;
  CachedReader cache_;
  uint32_t end_mark_;  // least value that marks an end
  uint32_t bad_mark_;
};

}  // namespace undershelf::fat
