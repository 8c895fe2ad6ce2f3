// Which clusters go on which folders where no chain tells: of folders that were deleted or cut
// short, whose FAT is lost, or whose volume was formatted over.
//
// A set that a cluster's end cuts is completed by the one cluster with which its checksum holds
// (specification, section 6.3.3). Otherwise drivers append: a folder goes on in the next cluster,
// or in the one that begins with the set that was made next.
#pragma once

#include <array>
#include <functional>
#include <map>
#include <optional>
#include <unordered_set>
#include <vector>

#include "fs/chained/chain.h"
#include "fs/chained/cluster_set.h"
#include "fs/exfat/folder.h"
#include "fs/exfat/geometry.h"
#include "source/source.h"

namespace undershelf::exfat {

// Not to be shared between threads. The references must outlive it.
class Continuations {
 public:
  // `swept`: clusters with sets that a sweep found, sorted; empty if none was made. Then those
  // nearby come in question in which nothing is now: `is_free`.
  Continuations(SourcePtr volume, const Geometry& geometry, const UpcaseTable& upcase,
                const std::vector<uint32_t>& swept, std::function<bool(uint32_t)> is_free)
      : volume_(std::move(volume)),
        geometry_(geometry),
        upcase_(upcase),
        swept_(swept),
        is_free_(std::move(is_free)) {}

  void clear();

  // Clusters that were read, of whatever folder.
  bool is_taken(uint32_t cluster) const { return taken_.contains(cluster); }
  void take(uint32_t first, uint64_t count) { taken_.insert(first, count); }
  // Notes that a folder begins there that is read, or will be; false if that is known.
  bool begin(uint32_t first) { return begun_.insert(first).second; }

  // Reads what the swept clusters name, once all that leads to folders was read: from then on sets
  // without a cut are gone on with by times, too.
  void settle();
  // Whether a set in a swept cluster names a folder that begins there.
  bool is_named(uint32_t cluster) const { return named_.contains(cluster); }

  // The clusters of a folder from `first` on, at most `most`: as long as it goes on to a cluster's
  // end.
  std::vector<Run> follow(uint32_t first, uint64_t most);

  // The entries of a cluster, from its start on; zeros where it cannot be read.
  std::vector<DirectoryEntry> entries_at(uint32_t cluster, uint64_t bytes) const;

 private:
  // A cluster, and the entries with which it begins.
  struct Head {
    uint32_t cluster = 0;
    std::vector<DirectoryEntry> entries;
  };
  // Heads by what they can go on: by the number of secondary entries with which they begin, and by
  // the time at which the set was made with which they do.
  struct Heads {
    std::array<std::vector<Head>, kMostSetEntries> cut;
    std::multimap<uint64_t, uint32_t> whole;
    void add(Head head);
  };

  std::optional<uint32_t> after(uint32_t cluster);
  std::optional<uint32_t> completing(uint32_t cluster, std::span<const DirectoryEntry> cut);
  std::optional<uint32_t> made_next(uint32_t cluster, std::span<const DirectoryEntry> entries);
  Heads& heads_behind(uint32_t cluster);
  bool may_continue(uint32_t cluster) const;
  Head head(uint32_t cluster) const;
  void note_named(std::span<const DirectoryEntry> entries);

  SourcePtr volume_;
  const Geometry& geometry_;
  const UpcaseTable& upcase_;
  const std::vector<uint32_t>& swept_;
  std::function<bool(uint32_t)> is_free_;
  ClusterSet taken_;
  std::unordered_set<uint32_t> begun_, named_;  // first clusters
  bool is_settled_ = false;
  std::optional<Heads> heads_;  // of all swept clusters; without a sweep, of those behind one
};

}  // namespace undershelf::exfat
