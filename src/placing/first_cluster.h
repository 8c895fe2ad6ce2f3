// Where a lost stream begins whose entry kept only the low half of its first cluster's number.
#pragma once

#include <SQLiteCpp/SQLiteCpp.h>

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

// Not to be shared between threads.
class FirstClusters {
 public:
  // `db` must outlive it.
  explicit FirstClusters(SQLite::Database& db) : db_(db) {}

  // Chooses among the candidates: one that is free and begins like the format, of several the one
  // nearest to another file of the folder. If none does, the least. `source`: the bytes of the
  // stream's space, of which `claims` are; null: contents are not looked at.
  void choose(LostStream& stream, const ClusterGrid& grid, const ClaimMap& claims,
              const Source* source);

 private:
  // Candidates that are read, in all; then the nearest few of each file.
  static constexpr size_t kMostCandidates = 2'000'000, kFewCandidates = 16;
  std::optional<uint64_t> neighbour_of(const LostStream& stream);

  SQLite::Database& db_;
  std::optional<std::unordered_map<int64_t, uint64_t>> neighbours_;  // folder to first byte
  size_t candidates_left_ = kMostCandidates;
};

}  // namespace undershelf
