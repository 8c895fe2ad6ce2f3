// The file allocation table: single entries and chains.
#pragma once

#include "fs/chained/chain.h"
#include "fs/fat/geometry.h"
#include "source/cache.h"

namespace undershelf::fat {

// Reads through a bounded cache. Not to be shared between threads.
class Table {
 public:
  enum class Use { free, used, bad, unreadable };
  Table(SourcePtr volume, const Geometry& geometry);

  // The chain from `first` on, of at most `most` clusters, in FAT number `copy`.
  Chain chain(uint32_t first, uint64_t most, unsigned copy);
  // Likewise in the one that is made out of the copies (mended_table.h).
  Chain chain(uint32_t first, uint64_t most);
  // Likewise, each link from the first copy that has one there.
  Chain chain_of_any(uint32_t first, uint64_t most);
  // The FAT that is kept up to date, 0 unless the boot sector names another.
  unsigned main_copy() const { return geometry_.active_fat.value_or(0); }
  // Section "FAT Data Structure", ClnShutBitMask and HrdErrBitMask of FAT[1]. FAT12 has none.
  struct Flags {
    bool clean = true;      // unmounted cleanly
    bool no_errors = true;  // no read or write error was met
  };
  Flags flags();
  // How the table marks a cluster; one the FAT is too short for counts as unreadable.
  Use use(uint32_t cluster);

 private:
  struct Entry {
    uint32_t value = 0;
    bool readable = false;
  };
  Entry read(uint32_t cluster, unsigned copy);
  Entry read(uint32_t cluster);
  Entry read_from(CachedReader& cache, uint64_t begin, uint32_t cluster) const;
  Link link_of(const Entry& entry) const;

  Geometry geometry_;
  SourcePtr volume_;
  CachedReader cache_;
  CachedReader mended_;
  uint32_t end_mark_;  // least value that marks an end
  uint32_t bad_mark_;
};

}  // namespace undershelf::fat
