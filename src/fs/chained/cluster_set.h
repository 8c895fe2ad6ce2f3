// A set of cluster numbers that takes room by its stretches, not by its clusters.
#pragma once

#include <cstdint>
#include <iterator>
#include <map>

namespace undershelf {

class ClusterSet {
 public:
  void clear() { stretches_.clear(); }
  bool contains(uint32_t cluster) const {
    const auto next = stretches_.upper_bound(cluster);
    return next != stretches_.begin() && std::prev(next)->second > cluster;
  }
  // `count` clusters from `first` on. A number beyond 32 bits is not kept.
  void insert(uint64_t first, uint64_t count) {
    uint64_t end = first + count;
    if (count == 0) return;
    auto at = stretches_.upper_bound(first);
    if (at != stretches_.begin() && std::prev(at)->second >= first) {
      --at;
      first = at->first;
    }
    while (at != stretches_.end() && at->first <= end) {
      end = end > at->second ? end : at->second;
      at = stretches_.erase(at);
    }
    stretches_.emplace(first, end);
  }

 private:
  std::map<uint64_t, uint64_t> stretches_;  // first cluster to the one behind the last
};

}  // namespace undershelf
