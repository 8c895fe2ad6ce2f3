#include "placing/lost_map.h"

#include <iterator>

namespace undershelf {

void LostMap::assign(const ByteRange& range, uint32_t stream) {
  if (range.length == 0) return;
  const uint64_t begin = range.offset;
  const uint64_t end = range.end();
  auto next = by_begin_.lower_bound(begin);
  if (next != by_begin_.begin()) {
    const auto before = std::prev(next);
    if (before->second.end > begin) {
      const End cut = before->second;
      before->second.end = begin;
      if (cut.end > end) by_begin_[end] = cut;
    }
  }
  next = by_begin_.lower_bound(begin);
  while (next != by_begin_.end() && next->first < end) {
    const End cut = next->second;
    next = by_begin_.erase(next);
    if (cut.end > end) {
      by_begin_[end] = cut;
      break;
    }
  }
  by_begin_[begin] = {end, stream};
}

LostMap::Holding LostMap::at_or_after(uint64_t offset) const {
  auto next = by_begin_.upper_bound(offset);
  if (next != by_begin_.begin()) {
    const auto before = std::prev(next);
    if (before->second.end > offset) next = before;
  }
  if (next == by_begin_.end()) return {};
  return {{next->first, next->second.end - next->first}, next->second.stream};
}

}  // namespace undershelf
