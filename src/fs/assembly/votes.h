// Finding the layout of a volume whose header is gone: by places whose cluster numbers are known,
// and by files whose format is.
#pragma once

#include <cstdint>
#include <span>
#include <string_view>
#include <vector>

#include "source/source.h"

namespace undershelf {

struct Format;

// Cluster (or block) `unit` may lie at byte `place` of the source.
struct Pin {
  uint64_t unit = 0;
  uint64_t place = 0;
  auto operator<=>(const Pin&) const = default;
};

// Unit 0 lies at byte `start` of the source, all others behind it.
struct Grid {
  uint64_t start = 0;
  uint64_t unit_size = 0;  // bytes: a power of two
  bool operator==(const Grid&) const = default;
  uint64_t place_of(uint64_t unit) const { return start + unit * unit_size; }
};

struct VotedGrid {
  Grid grid;
  size_t votes = 0;  // different units that agree
};

// The grids with which most pins agree, best first, at most `count` of them, of unit sizes from
// `least` to `most` bytes. Two pins of different units that agree determine a grid.
std::vector<VotedGrid> most_voted(std::span<const Pin> pins, uint64_t least, uint64_t most,
                                  size_t count);
// The first of them; no votes if there are no pins.
VotedGrid most_voted(std::span<const Pin> pins, uint64_t least, uint64_t most);
// How many votes say something: fewer than so many of `pins` pins may well agree by chance, on a
// source of `bytes` bytes. At least 2.
size_t votes_above_chance(size_t pins, uint64_t bytes);
bool is_on(const Grid& grid, const Pin& pin);

// A file whose first byte lies in a unit, and what its name says it is.
struct KnownFile {
  uint64_t unit = 0;
  const Format* format = nullptr;
};

// Pins of each file with each place at which content of its format begins (content/types.h, marks),
// thinned out to what can be voted on.
struct ContentStart {
  unsigned mark = 0;
  uint64_t place = 0;  // byte of the source
};
std::vector<Pin> content_pins(std::span<const KnownFile> files,
                              std::span<const ContentStart> starts);
// Every value of `units` with every one of `places`; where there are too many, with a part of them.
void append_pairs(std::vector<uint64_t> units, std::vector<uint64_t> places,
                  std::vector<Pin>& pins);

// Of up to `most` files spread over `files`: a positive number for each that begins as its format
// does where the grid says, a negative one for each that does not.
int score_by_content(const Source& source, const Grid& grid, std::span<const KnownFile> files,
                     size_t most = 128);

}  // namespace undershelf
