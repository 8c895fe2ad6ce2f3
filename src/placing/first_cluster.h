// Where a lost stream begins whose entry kept only the low half of its first cluster's number.
#pragma once

#include <cstdint>
#include <optional>
#include <unordered_map>

#include "placing/claims.h"
#include "placing/lost_streams.h"
#include "source/source.h"

namespace undershelf {

// How a stream's beginning reads as its format if it starts at `first` (byte of the space); unknown
// without a source, or if that cannot be read.
HeadMatch head_at(const Source* source, const LostStream& stream, uint64_t first);

// Not to be shared between threads. The references must outlive it.
class FirstClusters {
 public:
  // `source`: the bytes of the space; null: contents are not looked at.
  FirstClusters(SQLite::Database& db, const ClaimMap& claims, const Source* source)
      : db_(db), claims_(claims), source_(source) {}

  // Chooses among the candidates: one that is free and begins like the format, of several the one
  // nearest to another file of the folder. If none does, the least.
  void choose(LostStream& stream, const ClusterGrid& grid);

 private:
  // Candidates that are read, in all; then the nearest few of each file.
  static constexpr size_t kMostCandidates = 2'000'000, kFewCandidates = 16;
  int merit_of_content(const LostStream& stream, uint64_t first) const;
  std::optional<uint64_t> neighbour_of(const LostStream& stream);

  SQLite::Database& db_;
  const ClaimMap& claims_;
  const Source* source_;
  std::optional<std::unordered_map<int64_t, uint64_t>> neighbours_;  // folder to first byte
  size_t candidates_left_ = kMostCandidates;
};

}  // namespace undershelf
