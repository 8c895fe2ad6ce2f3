#include "fs/hfsplus/leaf_chain.h"

#include <algorithm>
#include <map>
#include <span>
#include <unordered_map>
#include <utility>

#include "fs/hfsplus/ondisk.h"

namespace undershelf::hfsplus {
namespace {

constexpr size_t kNear = 64;  // leaves

struct Leaf {
  uint64_t place = 0;  // byte of the source
  uint32_t next = 0, before = 0;
};

// The highest number in a chain that begins at `first` of a tree at `tree`; 0 if it breaks.
uint32_t follow(const std::unordered_map<uint64_t, Leaf>& leaves, uint64_t tree, uint64_t size,
                const Leaf& first) {
  uint32_t before = 0;
  auto number = static_cast<uint32_t>((first.place - tree) / size);
  uint32_t highest = number;
  for (size_t steps = 0; steps < leaves.size(); ++steps) {
    const auto leaf = leaves.find(tree + number * size);
    if (leaf == leaves.end() || leaf->second.before != before) return 0;
    highest = std::max(highest, number);
    before = std::exchange(number, leaf->second.next);
    if (number == 0) return steps == 0 ? 0 : highest;
  }
  return 0;
}

}  // namespace

std::optional<LeafChain> find_leaf_chain(const Source& source, const std::vector<Trace>& runs) {
  std::map<uint64_t, std::vector<Leaf>> by_size;
  for (const Trace& run : runs) {
    for (uint64_t at = run.offset; at < run.end(); at += run.other) {
      NodeDescriptor head{};
      if (!source.read(at, std::as_writable_bytes(std::span(&head, 1))).ok()) continue;
      by_size[run.other].push_back({at, head.fLink.value(), head.bLink.value()});
    }
  }
  for (const auto& [size, leaves] : by_size) {
    std::map<uint64_t, size_t> votes;  // by where the tree would begin
    std::unordered_map<uint64_t, Leaf> by_place;
    for (size_t i = 0; i < leaves.size(); ++i) {
      by_place.emplace(leaves[i].place, leaves[i]);
      // The next leaf may lie before or behind; mostly it is near.
      const size_t begin = i - std::min(i, kNear);
      for (size_t k = begin; k < std::min(leaves.size(), i + kNear); ++k) {
        const Leaf& a = leaves[i];
        const Leaf& b = leaves[k];
        const uint64_t tree = a.place - uint64_t{b.before} * size;
        const bool fits = a.next != 0 && b.before != 0 && a.place > uint64_t{b.before} * size;
        if (fits && b.place == tree + uint64_t{a.next} * size) ++votes[tree];
      }
    }
    const auto most =
        std::ranges::max_element(votes, {}, [](const auto& vote) { return vote.second; });
    if (most == votes.end()) continue;
    for (const Leaf& first : leaves) {
      const uint64_t tree = most->first;
      if (first.before != 0 || first.place <= tree || (first.place - tree) % size != 0) continue;
      const uint32_t highest = follow(by_place, tree, size, first);
      if (highest > 0) return LeafChain{tree, size, highest};
    }
  }
  return std::nullopt;
}

}  // namespace undershelf::hfsplus
