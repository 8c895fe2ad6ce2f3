// What a source is known not to have, looked up by place.
#pragma once

#include <algorithm>
#include <span>

#include "source/source.h"

namespace undershelf {

// Calls `visit(shared, unread)` with what each of `gaps` (in order) has of `range`, in order.
template <typename Visit>
void each_gap(std::span<const BadRange> gaps, const ByteRange& range, Visit visit) {
  auto gap = std::ranges::partition_point(
      gaps, [&](const BadRange& g) { return g.end() <= range.offset; });
  for (; gap != gaps.end() && gap->offset < range.end(); ++gap) {
    visit(overlap(*gap, range), gap->unread);
  }
}

}  // namespace undershelf
