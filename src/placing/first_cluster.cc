#include "placing/first_cluster.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>
#include <array>

#include "shelf/rows.h"

namespace undershelf {
namespace {

using Head = std::array<std::byte, 512>;

// The beginning of a stream if it starts at `first`; empty if that cannot be read.
std::span<const std::byte> read_head(const Source* source, const LostStream& stream, uint64_t first,
                                     Head& head) {
  const auto bytes = std::span(head).first(std::min<uint64_t>(head.size(), stream.size));
  if (source == nullptr || !source->read(first, bytes).ok()) return {};
  return bytes;
}

// 2: begins like its format; 1: could be; 0: nothing to tell by; -1: is something else or blank.
int merit_of_content(const Source* source, const LostStream& stream, uint64_t first) {
  if (source == nullptr) return 0;
  Head head{};
  const auto bytes = read_head(source, stream, first, head);
  if (bytes.empty()) return -1;
  const HeadMatch match = match_head(*stream.format, bytes);
  if (match == HeadMatch::differs) return -1;
  if (std::ranges::all_of(bytes, [&](std::byte b) { return b == bytes.front(); })) return -1;
  return match == HeadMatch::fits ? 2 : 1;
}

}  // namespace

HeadMatch head_at(const Source* source, const LostStream& stream, uint64_t first) {
  Head head{};
  return match_head(*stream.format, read_head(source, stream, first, head));
}

void FirstClusters::choose(LostStream& stream, const ClusterGrid& grid, const ClaimMap& claims,
                           const Source* source) {
  const std::optional<uint64_t> neighbour = neighbour_of(stream);
  std::pair<int, uint64_t> best{source == nullptr ? 0 : 1, 0};
  size_t believable = 0;
  uint64_t chosen = stream.first;
  const auto distance = [&](uint64_t first) {
    return !neighbour ? first : first > *neighbour ? first - *neighbour : *neighbour - first;
  };
  std::vector<uint64_t> candidates;
  for (uint64_t first = stream.first; first < grid.heap_end; first += stream.first_step) {
    candidates.push_back(first);
  }
  std::ranges::sort(candidates, {}, distance);
  if (candidates.size() > candidates_left_) {
    // More than can be looked at: the nearest ones, and that is a guess.
    candidates.resize(std::min(candidates.size(), kFewCandidates));
    believable = 1;
  }
  candidates_left_ -= std::min(candidates_left_, candidates.size());
  for (const uint64_t first : candidates) {
    const Claim* claim = claims.at_or_after(first);
    const bool claimed = claim != nullptr && claim->range.offset <= first;
    const int merit = claimed ? -1 : merit_of_content(source, stream, first);
    const uint64_t far = distance(first);
    if (merit >= 0) ++believable;
    if (std::pair{merit, UINT64_MAX - far} > best) {
      best = {merit, UINT64_MAX - far};
      chosen = first;
    }
  }
  // What the entry says is no guess where it is the only candidate that can be.
  stream.guessed = chosen != stream.first || believable > 1;
  stream.first = chosen;
}

// Where the content of another file in the same folder starts for certain, if there is one.
std::optional<uint64_t> FirstClusters::neighbour_of(const LostStream& stream) {
  if (!neighbours_) {
    neighbours_.emplace();
    SQLite::Statement row(db_, R"sql(
      SELECT coalesce(e.parent, -e.volume), s.first
      FROM streams s JOIN entries e ON e.id=s.entry
      WHERE s.first IS NOT NULL AND s.first_step IS NULL)sql");
    while (row.executeStep()) {
      neighbours_->emplace(row.getColumn(0).getInt64(), size_of(row.getColumn(1)));
    }
  }
  const auto found = neighbours_->find(stream.parent);
  if (found == neighbours_->end()) return std::nullopt;
  return found->second;
}

}  // namespace undershelf
