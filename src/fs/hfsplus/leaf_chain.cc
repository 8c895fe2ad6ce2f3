#include "fs/hfsplus/leaf_chain.h"

#include <algorithm>
#include <map>
#include <set>
#include <tuple>
#include <unordered_map>

#include "fs/hfsplus/catalog.h"

namespace undershelf::hfsplus {
namespace {

constexpr size_t kMostSeconds = 64;        // leaves that are tried behind a first one
constexpr size_t kMostSteps = 20'000'000;  // leaves looked at for all chains that are tried

struct Leaf {
  uint64_t place = 0;             // byte of the source
  uint32_t next = 0, before = 0;  // numbers of leaves; 0: there is none
  uint32_t first = 0, last = 0;   // CNIDs of the first and last key
  uint32_t changed = 0;           // the latest date in it
};

struct Chain {
  uint32_t changed = 0;          // the latest date in it
  std::vector<uint64_t> places;  // bytes of the source
};

std::optional<Leaf> read_leaf(const Source& source, uint64_t place, std::span<std::byte> node) {
  if (!source.read(place, node).ok()) return std::nullopt;
  const std::vector<CatalogRecord> records = catalog_records(records_of(node).records);
  const auto head = load<NodeDescriptor>(node);
  if (records.empty() || !head) return std::nullopt;
  Leaf leaf{place,
            head->fLink.value(),
            head->bLink.value(),
            records.front().parent,
            records.back().parent,
            0};
  for (const CatalogRecord& record : records) {
    if (!record.is_thread()) {
      leaf.changed = std::max(leaf.changed, record.file.attributeModDate.value());
    }
  }
  return leaf;
}

class Chains {
 public:
  // Leaves of one size, in bytes.
  Chains(std::vector<Leaf> leaves, uint64_t size) : leaves_(std::move(leaves)), size_(size) {
    std::ranges::sort(leaves_, {},
                      [](const Leaf& leaf) { return std::tie(leaf.first, leaf.place); });
    for (const Leaf& leaf : leaves_) behind_[leaf.before].push_back(&leaf);
  }

  // The chain that was changed last, and the longest of these: old copies of leaves form chains
  // too. A single leaf is one only if there is no other.
  Chain best() {
    Chain best;
    const auto worth = [](const Chain& chain) {
      return std::tuple(chain.places.size() > 1, chain.changed, chain.places.size());
    };
    const auto take = [&](const Chain& chain) {
      if (worth(chain) > worth(best)) best = chain;
    };
    for (const Leaf* first : behind_[0]) {
      if (steps_ > kMostSteps) break;
      if (first->next == 0) {
        take({first->changed, {first->place}});
        continue;
      }
      size_t tried = 0;
      const auto begin = std::ranges::lower_bound(leaves_, first->last, {}, &Leaf::first);
      for (auto second = begin;
           second != leaves_.end() && tried < kMostSeconds && steps_ <= kMostSteps; ++second) {
        if (second->before == 0 || (second->next != 0 && !behind_.contains(first->next))) continue;
        ++tried;
        take(follow(*first, *second));
      }
    }
    return best;
  }

 private:
  // A leaf in a chain, by the number that the one before it calls it.
  struct Link {
    const Leaf* leaf = nullptr;
    uint32_t number = 0;
    std::vector<const Leaf*> next;  // that have not been tried, the likeliest last
  };

  // The chain that begins with these two; empty if there is none.
  Chain follow(const Leaf& first, const Leaf& second) {
    std::vector<Link> chain = {{&second, first.next, behind(second, first.next)}};
    while (!chain.empty() && chain.back().leaf->next != 0) {
      Link& last = chain.back();
      if (last.next.empty() || chain.size() > leaves_.size() || steps_ > kMostSteps) {
        dead_.emplace(last.leaf, last.number);
        chain.pop_back();
        continue;
      }
      const Leaf* leaf = last.next.back();
      const uint32_t number = last.leaf->next;
      last.next.pop_back();
      if (!dead_.contains({leaf, number})) chain.push_back({leaf, number, behind(*leaf, number)});
    }
    if (chain.empty()) return {};
    Chain found{first.changed, {first.place}};
    for (const Link& link : chain) {
      found.changed = std::max(found.changed, link.leaf->changed);
      found.places.push_back(link.leaf->place);
    }
    return found;
  }

  // What may follow a leaf. What is where the tree then has it is the leaf itself; others may be
  // copies.
  std::vector<const Leaf*> behind(const Leaf& leaf, uint32_t number) {
    std::vector<const Leaf*> found;
    const auto known = behind_.find(number);
    ++steps_;
    if (known == behind_.end()) return found;
    steps_ += known->second.size();
    std::ranges::copy_if(known->second, std::back_inserter(found),
                         [&](const Leaf* one) { return one->first >= leaf.last; });
    const uint64_t expected = leaf.place + (uint64_t{leaf.next} - number) * size_;
    std::ranges::sort(found, {}, [&](const Leaf* one) {
      return std::tuple(one->place == expected, one->changed, one->place);
    });
    return found;
  }

  std::vector<Leaf> leaves_;
  uint64_t size_;
  std::unordered_map<uint32_t, std::vector<const Leaf*>> behind_;  // by the number before them
  std::set<std::pair<const Leaf*, uint32_t>>
      dead_;  // with their numbers: no chain ends behind them
  size_t steps_ = 0;
};

}  // namespace

std::optional<LeafChain> find_leaf_chain(const Source& source, const std::vector<Trace>& runs) {
  std::map<uint64_t, std::vector<Leaf>> by_size;
  std::vector<std::byte> node;
  for (const Trace& run : runs) {
    node.resize(run.other);
    for (uint64_t at = run.offset; at < run.end(); at += run.other) {
      if (const auto leaf = read_leaf(source, at, node)) by_size[run.other].push_back(*leaf);
    }
  }
  Chain best;
  uint64_t node_size = 0;
  for (auto& [size, leaves] : by_size) {
    Chain chain = Chains(std::move(leaves), size).best();
    if (chain.places.size() <= best.places.size()) continue;
    best = std::move(chain);
    node_size = size;
  }
  if (best.places.empty()) return std::nullopt;
  return LeafChain{node_size, std::move(best.places)};
}

}  // namespace undershelf::hfsplus
