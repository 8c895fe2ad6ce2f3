// Boxes of ISO/IEC 14496-12, for the files about that family only.
#pragma once

#include <cstdint>
#include <initializer_list>
#include <optional>
#include <string_view>
#include <vector>

#include "content/walk.h"

namespace undershelf::content::isobmff {

struct Box {
  uint64_t at = 0, body = 0, end = 0;  // bytes
};

// The box at `at`; nothing if none that fits below `limit` begins there.
std::optional<Box> box_at(Bytes& bytes, uint64_t at, uint64_t limit);
// The first of that name in another, or below it along `path`.
std::optional<Box> find(Bytes& bytes, const Box& in, std::string_view name);
std::optional<Box> find(Bytes& bytes, Box in, std::initializer_list<std::string_view> path);

// Looks into samples: of H.264 and H.265 the length-prefixed units of each must add up (14496-15,
// 4.3.2), all others must lie in the file. Many that share their bytes are not looked into for
// ever: takes steps in proportion to the bytes of the file.
class Samples {
 public:
  explicit Samples(Bytes& bytes) : bytes_(bytes) {}
  // Where the first sample of `moov` that does not add up lies (14496-12, 8.6 and 8.7); nothing if
  // all do.
  std::optional<Walk> fault_in_movie(const Box& moov);
  // Likewise of `moof` (8.8). Those of a file whose `moov` was not looked at must only lie in it.
  std::optional<Walk> fault_in_fragment(const Box& moof);
  // Byte behind the last of those that were looked at.
  uint64_t end() const { return end_; }
  // Bytes of those that were looked into.
  uint64_t looked_into() const { return checked_; }

 private:
  struct Track {
    uint32_t id = 0;
    unsigned prefix = 0;  // bytes of a unit's length; 0: not checked
    uint32_t size = 0;    // bytes of a sample, where a fragment does not tell
  };
  void take_defaults(const Box& moov);
  std::optional<Walk> fault_in_track(const Box& stbl, const Track& track);
  std::optional<Walk> fault_in_track_fragment(const Box& traf, const Box& moof, uint64_t& next);
  std::optional<Walk> fault_in_run(const Box& trun, const Track& track, uint64_t base,
                                   uint64_t& next);
  std::optional<Walk> fault_at(uint64_t at, uint64_t size, unsigned prefix);
  bool adds_up(uint64_t at, uint64_t size, unsigned prefix);
  bool looks_in() const { return checked_ < 2 * bytes_.size(); }
  Track known(uint32_t id) const;

  Bytes& bytes_;
  std::vector<Track> tracks_;
  uint64_t end_ = 0, checked_ = 0;  // bytes
};

void describe(Bytes& bytes, std::string_view format, Description& found);

}  // namespace undershelf::content::isobmff
