#include "fs/assembly/layouts.h"

namespace undershelf {

std::optional<VotedGrid> Layouts::voted(std::span<const Pin> pins) const {
  const std::vector<VotedGrid> best = candidates(pins, 1);
  if (best.empty() || best.front().votes < votes_needed(pins.size())) return std::nullopt;
  return best.front();
}

std::vector<Grid> Layouts::at_starts(std::span<const uint64_t> starts, uint64_t inside) const {
  std::vector<Grid> grids;
  for (const uint64_t start : starts) {
    for (uint64_t size = rules_.least_unit; start <= inside && size <= rules_.most_unit;
         size *= 2) {
      grids.push_back({start, size});
    }
  }
  return grids;
}

}  // namespace undershelf
