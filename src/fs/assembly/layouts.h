// Where the clusters (blocks) of a volume may lie whose header is gone, weighed by what is left.
#pragma once

#include <optional>
#include <span>
#include <vector>

#include "fs/assembly/rules.h"
#include "fs/assembly/scene.h"

namespace undershelf {

// Both must outlive it.
class Layouts {
 public:
  Layouts(const Scene& scene, const Rules& rules) : scene_(scene), rules_(rules) {}

  // How many votes say something, of so many pins.
  size_t votes_needed(size_t pins) const { return votes_above_chance(pins, scene_.source->size()); }
  // The grids with which most pins agree, best first, at most `count`.
  std::vector<VotedGrid> candidates(std::span<const Pin> pins, size_t count) const {
    return most_voted(pins, rules_.least_unit, rules_.most_unit, count);
  }
  // The first of them, if more agree than may by chance.
  std::optional<VotedGrid> voted(std::span<const Pin> pins) const;
  // Likewise, by where content of the files' formats begins.
  std::optional<VotedGrid> voted(std::span<const KnownFile> files) const {
    return voted(content_pins(files, scene_.contents));
  }
  // Grids of every size from each place on at which a volume may start, and before `inside` (byte
  // of the source).
  std::vector<Grid> at_starts(std::span<const uint64_t> starts, uint64_t inside) const;

  // What files say for a grid, or (below 0) against it: points.
  int content(const Grid& grid, std::span<const KnownFile> files) const {
    return score_by_content(*scene_.source, grid, files);
  }
  bool is_content(const Grid& grid, std::span<const KnownFile> files) const {
    return content(grid, files) >= kLeastContent;
  }
  // What votes are worth: points.
  static int worth(size_t votes) { return kVote * static_cast<int>(std::min<size_t>(votes, 1000)); }

 private:
  const Scene& scene_;
  const Rules& rules_;
};

}  // namespace undershelf
