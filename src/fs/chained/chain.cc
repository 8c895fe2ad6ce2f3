#include "fs/chained/chain.h"

#include <array>
#include <map>

namespace undershelf {
namespace {

// The runs of a chain by first cluster, to notice when it comes back to itself.
class Visited {
 public:
  bool has(uint32_t cluster) const {
    auto next = by_first_.upper_bound(cluster);
    if (next == by_first_.begin()) return false;
    --next;
    return cluster < next->first + next->second;
  }
  void add(const Run& run) { by_first_[run.first] = run.count; }

 private:
  std::map<uint32_t, uint32_t> by_first_;
};

}  // namespace

std::string_view to_text(Chain::End end) {
  constexpr std::array<std::string_view, 7> kTexts = {
      "ends",
      "goes on",
      "runs into a free cluster",
      "runs into a bad cluster",
      "leads outside the volume",
      "comes back to itself",
      "leads to a part of the FAT that cannot be read"};
  return kTexts.at(static_cast<size_t>(end));
}

Chain follow_chain(uint32_t first, uint64_t most, uint64_t cluster_count,
                   const std::function<Link(uint32_t)>& link) {
  Chain chain;
  Visited visited;
  uint32_t cluster = first;
  while (true) {
    if (cluster < 2 || cluster >= cluster_count + 2) {
      chain.end = Chain::End::outside;
      break;
    }
    const Link next = link(cluster);
    if (next.kind != Link::Kind::next && next.kind != Link::Kind::end) {
      chain.end = next.kind == Link::Kind::unreadable ? Chain::End::unreadable
                  : next.kind == Link::Kind::free     ? Chain::End::free_cluster
                                                      : Chain::End::bad_cluster;
      break;
    }
    const bool follows =
        !chain.runs.empty() && chain.runs.back().first + chain.runs.back().count == cluster;
    // Only a jump, or a run that grows into an older one, can come back.
    if (!follows && !chain.runs.empty()) visited.add(chain.runs.back());
    if (visited.has(cluster)) {
      chain.end = Chain::End::loop;
      break;
    }
    if (chain.clusters == most) {
      chain.end = Chain::End::enough;
      break;
    }
    if (!follows) chain.runs.push_back({cluster, 0});
    ++chain.runs.back().count;
    ++chain.clusters;
    if (next.kind == Link::Kind::end) {
      chain.end = Chain::End::marked;
      break;
    }
    cluster = next.next;
  }
  return chain;
}

}  // namespace undershelf
