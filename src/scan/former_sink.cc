#include "scan/former_sink.h"

#include <fmt/format.h>

#include <algorithm>
#include <vector>

namespace undershelf {

EntryId FormerSink::add(const Entry& entry) {
  pushed_.insert(entry.key);
  if (entry.parent && !entry.orphan) wanted_.insert(*entry.parent);
  files_ += entry.kind == Kind::file && !entry.system;
  if (!former_) return to_.add(entry);
  Entry changed = entry;
  changed.state = State::former;
  return to_.add(changed);
}

void FormerSink::add(const Damage& damage) {
  if (!former_) to_.add(damage);
}

void FormerSink::finish() {
  std::vector<uint64_t> missing;
  std::ranges::copy_if(wanted_, std::back_inserter(missing),
                       [&](uint64_t key) { return !pushed_.contains(key); });
  std::ranges::sort(missing);
  for (const uint64_t key : missing) {
    Entry folder;
    folder.key = key;
    folder.kind = Kind::folder;
    folder.state = former_ ? State::former : State::deleted;
    folder.orphan = true;
    folder.name = {fmt::format("[folder {}]", key & key_mask_), {}, false};
    folder.evidence.push_back({"name-lost", 0});
    folder.streams.emplace_back();
    to_.add(folder);
  }
}

}  // namespace undershelf
