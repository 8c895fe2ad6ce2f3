// Chains of clusters in a file allocation table, as FAT and exFAT keep them.
#pragma once

#include <cstdint>
#include <functional>
#include <string_view>
#include <vector>

namespace undershelf {

// Clusters that follow each other on the medium.
struct Run {
  uint32_t first = 0;
  uint32_t count = 0;  // clusters
  bool operator==(const Run&) const = default;
};

struct Chain {
  enum class End {
    marked,        // an end-of-chain mark
    enough,        // as long as was asked, and it goes on
    free_cluster,  // runs into a cluster that is free
    bad_cluster,   // runs into the bad-cluster mark
    outside,       // names a cluster that the volume has not
    loop,          // comes back to itself; the repetition is left out
    unreadable,    // the table cannot be read there
  };
  std::vector<Run> runs;
  uint64_t clusters = 0;
  End end = End::marked;
};

std::string_view to_text(Chain::End end);  // "ends in a cluster that is free", ...

// What the table holds for one cluster.
struct Link {
  enum class Kind { next, end, free, bad, unreadable };
  Kind kind = Kind::unreadable;
  uint32_t next = 0;
};

// The chain from `first` on, of at most `most` clusters. Clusters are numbered from 2; the volume
// has `cluster_count` of them.
Chain follow_chain(uint32_t first, uint64_t most, uint64_t cluster_count,
                   const std::function<Link(uint32_t)>& link);

}  // namespace undershelf
