#include "fs/assembly/votes.h"

#include <algorithm>
#include <array>
#include <map>

#include "content/types.h"
#include "model/blank.h"
#include "model/make_set.h"

namespace undershelf {

std::vector<VotedGrid> most_voted(std::span<const Pin> pins, uint64_t least, uint64_t most,
                                  size_t count) {
  const auto more = [](const VotedGrid& a, const VotedGrid& b) { return a.votes > b.votes; };
  std::vector<VotedGrid> best;  // a heap, the least voted first, until it is sorted
  std::vector<std::pair<uint64_t, uint64_t>> votes;  // start, unit
  votes.reserve(pins.size());
  for (uint64_t size = least; size <= most; size *= 2) {
    votes.clear();
    for (const Pin& pin : pins) {
      const bool fits = pin.unit <= pin.place / size;
      if (fits) votes.emplace_back(pin.place - pin.unit * size, pin.unit);
    }
    make_set(votes);
    for (size_t i = 0; i < votes.size();) {
      size_t end = i;
      while (end < votes.size() && votes[end].first == votes[i].first) ++end;
      const VotedGrid here{{votes[i].first, size}, end - i};
      i = end;
      if (best.size() == count && !more(here, best.front())) continue;
      if (best.size() == count) {
        std::ranges::pop_heap(best, more);
        best.pop_back();
      }
      best.push_back(here);
      std::ranges::push_heap(best, more);
    }
  }
  std::ranges::stable_sort(best, more);
  return best;
}

VotedGrid most_voted(std::span<const Pin> pins, uint64_t least, uint64_t most) {
  const std::vector<VotedGrid> best = most_voted(pins, least, most, 1);
  return best.empty() ? VotedGrid{} : best.front();
}

size_t votes_above_chance(size_t pins, uint64_t bytes) {
  constexpr double kRare = 0.001;  // times that chance may do it, of all starts and unit sizes
  constexpr double kSizes = 16;
  constexpr size_t kMost = 1000;
  const double places = std::max(1.0, static_cast<double>(bytes) / 512);
  const double mean = static_cast<double>(pins) / places;
  double expected = places * kSizes;  // starts that get at least so many votes, about
  for (size_t votes = 1; votes < kMost; ++votes) {
    expected *= mean / static_cast<double>(votes);
    if (votes >= 2 && expected < kRare) return votes;
  }
  return kMost;
}

bool is_on(const Grid& grid, const Pin& pin) {
  return pin.place >= grid.start && pin.unit == (pin.place - grid.start) / grid.unit_size &&
         (pin.place - grid.start) % grid.unit_size == 0;
}

namespace {

void thin_out(std::vector<uint64_t>& values) {
  for (size_t i = 0; 2 * i < values.size(); ++i) values[i] = values[2 * i];
  values.resize((values.size() + 1) / 2);
}

}  // namespace

void append_pairs(std::vector<uint64_t> units, std::vector<uint64_t> places,
                  std::vector<Pin>& pins) {
  constexpr size_t kMostPairs = 1 << 19;
  constexpr size_t kLeastUnits = 64;
  make_set(units);
  // Where there are too many, a part of them tells as much.
  while (units.size() * places.size() > kMostPairs) {
    thin_out(units.size() > kLeastUnits ? units : places);
  }
  for (const uint64_t unit : units) {
    for (const uint64_t place : places) pins.push_back({unit, place});
  }
}

std::vector<Pin> content_pins(std::span<const KnownFile> files,
                              std::span<const ContentStart> starts) {
  constexpr size_t kMostPins = 1 << 20;
  std::map<unsigned, std::pair<std::vector<uint64_t>, std::vector<uint64_t>>> by_mark;
  for (const KnownFile& file : files) {
    if (const auto mark = mark_of(*file.format)) by_mark[*mark].first.push_back(file.unit);
  }
  for (const ContentStart& start : starts) {
    const auto known = by_mark.find(start.mark);
    if (known != by_mark.end()) known->second.second.push_back(start.place);
  }
  std::vector<Pin> pins;
  for (auto& [mark, both] : by_mark) {
    if (pins.size() < kMostPins) append_pairs(std::move(both.first), std::move(both.second), pins);
  }
  return pins;
}

int score_by_content(const Source& source, const Grid& grid, std::span<const KnownFile> files,
                     size_t most) {
  constexpr int kSameMarks = 4;  // a format's own first bytes
  constexpr int kSameText = 1;   // no NUL where a text should be
  constexpr int kOther = -2;
  int score = 0;
  const size_t step = std::max<size_t>(1, files.size() / most);
  std::array<std::byte, 512> head{};
  for (size_t i = 0; i < files.size(); i += step) {
    const uint64_t place = grid.place_of(files[i].unit);
    if (files[i].unit > source.size() / grid.unit_size || place >= source.size() ||
        !source.read(place, head).ok()) {
      score += kOther;
      continue;
    }
    const bool blank = is_one_value(head);
    const HeadMatch match = match_head(*files[i].format, head);
    if (match == HeadMatch::fits && !blank) {
      score += is_text(*files[i].format) ? kSameText : kSameMarks;
    } else if (match == HeadMatch::differs && !blank) {  // blank space was discarded, or wiped
      score += kOther;
    }
  }
  return score;
}

}  // namespace undershelf
