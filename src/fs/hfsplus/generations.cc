#include "fs/hfsplus/generations.h"

#include <algorithm>
#include <array>
#include <tuple>
#include <utility>

#include "fs/hfsplus/remnants.h"

namespace undershelf::hfsplus {
namespace {

constexpr size_t kMostSeen = 8'000'000;  // records: 16 bytes each
constexpr size_t kMostGenerations = 8;

// What speaks for a format after `from` and not after `to`, in seconds since 1904; or against it.
struct Hint {
  uint32_t from = 0, to = 0;
  int64_t weight = 0;
};
constexpr int64_t kEnough = 3;
constexpr int64_t kNewRoot = 1'000'000;  // another root folder
constexpr int64_t kOtherFile = 3;   // made under the number of one that was last changed before
constexpr int64_t kMaybeOther = 1;  // a number under another name, with another date of creation
constexpr int64_t kSameFile = -3;   // two states of one file, which keeps its date of creation

// The moment for which most speaks, if it is enough; 0 if none is.
uint32_t best_start(const std::vector<Hint>& hints) {
  std::vector<std::pair<uint64_t, int64_t>> changes;  // of the weight, from a moment on
  for (const Hint& hint : hints) {
    changes.emplace_back(uint64_t{hint.from} + 1, hint.weight);
    changes.emplace_back(uint64_t{hint.to} + 1, -hint.weight);
  }
  std::ranges::sort(changes);
  int64_t weight = 0;
  int64_t most = kEnough - 1;
  uint64_t best = 0;
  for (size_t i = 0; i < changes.size(); ++i) {
    weight += changes[i].second;
    const bool goes_on = i + 1 < changes.size() && changes[i + 1].first == changes[i].first;
    if (goes_on || weight <= most) continue;
    most = weight;
    // The last moment for which that is so: what is in doubt belongs to the older volume.
    best = changes[i + 1].first - 1;
  }
  return static_cast<uint32_t>(best);
}

// Seconds since 1904. The date of content can be set to any time, that of attributes cannot.
uint32_t changed(const CatalogRecord& record) {
  const FileRecord& file = record.file;
  const uint32_t attributes = file.attributeModDate.value();
  return attributes != 0 ? attributes
                         : std::max(file.createDate.value(), file.contentModDate.value());
}

}  // namespace

void Generations::add(const CatalogRecord& record) {
  if (record.is_thread() || seen_.size() >= kMostSeen) return;
  const uint32_t created = record.file.createDate.value();
  if (record.parent == kRootParent && record.type == kFolder) roots_.push_back(created);
  if (record.cnid() < kFirstUser) return;
  seen_.push_back({record.cnid(), hash_of({record.parent, record.name}), created, changed(record)});
}

void Generations::settle() {
  std::vector<Hint> hints;
  std::ranges::sort(roots_);
  for (size_t i = 1; i < roots_.size(); ++i) {
    if (roots_[i] != roots_[i - 1]) hints.push_back({roots_[i] - 1, roots_[i], kNewRoot});
  }
  std::ranges::sort(seen_, {},
                    [](const Seen& s) { return std::tie(s.cnid, s.changed, s.name, s.created); });
  for (size_t i = 1; i < seen_.size(); ++i) {
    const Seen& a = seen_[i - 1];
    const Seen& b = seen_[i];
    if (a.cnid != b.cnid || a.changed == b.changed) continue;
    if (a.created == b.created) {
      hints.push_back({a.changed, b.changed, kSameFile});
    } else if (a.name != b.name) {
      const bool made_after = b.created > a.changed && b.created <= b.changed;
      hints.push_back(
          {a.changed, made_after ? b.created : b.changed, made_after ? kOtherFile : kMaybeOther});
    }
  }
  while (starts_.size() + 1 < kMostGenerations) {
    const uint32_t start = best_start(hints);
    if (start == 0) break;
    starts_.push_back(start);
    std::erase_if(hints,
                  [&](const Hint& h) { return h.weight > 0 && h.from < start && start <= h.to; });
  }
  std::ranges::sort(starts_);
  std::ranges::sort(seen_, {}, [](const Seen& s) { return std::tie(s.cnid, s.name); });
}

size_t Generations::at(uint32_t seconds) const {
  return static_cast<size_t>(std::ranges::upper_bound(starts_, seconds) - starts_.begin());
}

std::optional<size_t> Generations::of(const CatalogRecord& record) const {
  if (!record.is_thread()) return at(changed(record));
  const uint32_t name = hash_of({record.thread_parent, record.thread_name});
  const auto key = [](const Seen& s) { return std::tuple(s.cnid, s.name); };
  const std::tuple wanted(record.cnid(), name);
  std::optional<size_t> latest;
  auto seen = std::ranges::lower_bound(seen_, wanted, {}, key);
  for (; seen != seen_.end() && key(*seen) == wanted; ++seen) {
    latest = std::max(latest.value_or(0), at(seen->changed));
  }
  return latest;
}

size_t Generations::of_stale(std::span<const CatalogRecord> records, size_t youngest) const {
  for (size_t generation = youngest; generation > 0; --generation) {
    int strange = 0;
    for (const CatalogRecord& record : records) {
      if (!record.is_thread()) continue;
      const uint32_t name = hash_of({record.thread_parent, record.thread_name});
      bool known = false;
      bool same = false;
      auto seen = std::ranges::lower_bound(seen_, record.cnid(), {}, &Seen::cnid);
      for (; seen != seen_.end() && seen->cnid == record.cnid(); ++seen) {
        if (at(seen->changed) != generation) continue;
        known = true;
        same = same || seen->name == name;
      }
      strange += same ? -1 : known ? 1 : 0;
    }
    if (strange <= 0) return generation;
  }
  return 0;
}

std::optional<size_t> Generations::of_node(std::span<const CatalogRecord> records) const {
  if (starts_.empty()) return 0;
  // Some dates may be wrong: most count, those of records before those of threads.
  std::array<size_t, kMostGenerations> by_dates{}, by_names{};
  for (const CatalogRecord& record : records) {
    if (const auto one = of(record)) ++(record.is_thread() ? by_names : by_dates)[*one];
  }
  for (const auto& votes : {by_dates, by_names}) {
    const auto most = std::ranges::max_element(votes);
    if (*most > 0) return static_cast<size_t>(most - votes.begin());
  }
  return std::nullopt;
}

}  // namespace undershelf::hfsplus
