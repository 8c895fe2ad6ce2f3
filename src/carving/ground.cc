#include "carving/ground.h"

#include <iterator>

#include "content/walk.h"

namespace undershelf::carving {
namespace {

// The sound parts of what breaks off: where they end, by where they begin. None begins in another.
std::map<uint64_t, uint64_t> wholes_of(const Scene& scene, Parts parts) {
  std::map<uint64_t, uint64_t> wholes;
  for (const Start& start : scene.starts) {
    if (!wholes.empty() && start.offset < wholes.rbegin()->second) continue;
    const std::string_view type = content::type_of(start.breaks_as);
    const bool counts = parts == Parts::all || type == "video" || type == "audio";
    if (!type.empty() && counts && may_hold_others(start.breaks_as)) {
      wholes[start.offset] = start.breaks_at;
    }
  }
  return wholes;
}

// Whether one of them begins before `start`, and goes on to `end` at least.
bool is_in(const std::map<uint64_t, uint64_t>& wholes, uint64_t start, uint64_t end) {
  const auto behind = wholes.lower_bound(start);
  return behind != wholes.begin() && end <= std::prev(behind)->second;
}

}  // namespace

void Ground::take(Taken& taken, const ByteRange& range) const {
  const uint64_t end = grids_->rounded_up(range.end());
  taken.add({range.offset, end - range.offset});
}

void Ground::settle(const Finds& finds, Parts parts) {
  const std::map<uint64_t, uint64_t> wholes = wholes_of(scene_, parts);
  std::vector<const Find*> apart;
  std::vector<uint64_t> begins;
  for (const auto& [start, end] : wholes) {
    constexpr uint64_t kLeast = 16 << 10;  // bytes that add up, by which it is no chance
    if (end - start >= kLeast) begins.push_back(start);
  }
  for (const auto& find : finds) {
    const bool is_part =
        find->pieces.size() == 1 && is_in(wholes, find->start, find->start + find->length);
    if (is_part) continue;
    apart.push_back(find.get());
    if (!may_go_on(*find)) begins.push_back(find->start);
  }
  grids_ = std::make_unique<ClusterGrids>(shelf_, begins);
  taken_ = {};
  for (const ByteRange& range : scene_.living) take(taken_, range);
  for (const ByteRange& range : scene_.sound) take(taken_, range);
  taken_for_chains_ = taken_;
  for (const Find* find : apart) {
    for (const Piece& piece : find->pieces) {
      take(taken_, {piece.offset, piece.length});
      if (!may_go_on(*find)) take(taken_for_chains_, {piece.offset, piece.length});
    }
  }
  taken_.settle();
  taken_for_chains_.settle();
  inside_.clear();
  for (const auto& find : finds) cover(*find);
}

void Ground::cover(const Find& find) {
  if (!find.is_verified() && !may_hold_others(find.found.format.data())) return;
  for (const Piece& piece : find.pieces) inside_[piece.offset] = piece.offset + piece.length;
}

bool Ground::is_covered(uint64_t offset) const {
  const auto found = inside_.upper_bound(offset);
  return found != inside_.begin() && std::prev(found)->second > offset;
}

}  // namespace undershelf::carving
