// What a source refused to give: it is not asked for again, each failing read may cost the rest.
#pragma once

#include <algorithm>
#include <atomic>
#include <mutex>
#include <set>

#include "model/range.h"

namespace undershelf {

// Of whole units (bytes) of the source. All calls may come from any thread.
class Refused {
 public:
  explicit Refused(uint64_t unit) : unit_(unit) {}

  // Notes the units that `range` touches; past a million of them no more.
  void note(const ByteRange& range) {
    constexpr size_t kMost = 1 << 20;
    const std::lock_guard lock(mutex_);
    for (uint64_t at = range.offset / unit_ * unit_; at < range.end() && units_.size() < kMost;
         at += unit_) {
      units_.insert(at);
    }
    any_ = true;
  }

  // The first part of `range` of which all was refused, or nothing.
  struct Part {
    ByteRange range;
    bool refused = false;
  };
  Part first_part(const ByteRange& range) const {
    if (!any_) return {range};
    const std::lock_guard lock(mutex_);
    auto next = units_.lower_bound(range.offset / unit_ * unit_);
    if (next == units_.end() || *next >= range.end()) return {range};
    const bool refused = *next <= range.offset;
    uint64_t end = *next;
    while (refused && next != units_.end() && *next == end) {
      end += unit_;
      ++next;
    }
    return {{range.offset, std::min(end, range.end()) - range.offset}, refused};
  }

  uint64_t bytes() const {
    const std::lock_guard lock(mutex_);
    return units_.size() * unit_;
  }

 private:
  uint64_t unit_;
  mutable std::mutex mutex_;
  std::set<uint64_t> units_;  // by their first bytes
  std::atomic<bool> any_ = false;
};

}  // namespace undershelf
