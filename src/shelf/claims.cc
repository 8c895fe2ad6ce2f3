#include "shelf/claims.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>

#include "shelf/rows.h"
#include "shelf/shelf.h"

namespace undershelf {
namespace {

// Claims looked at for one dispute; only damage, or malice, makes more overlap in one place.
constexpr size_t kMostDisputes = 256;
constexpr int64_t kNoEntry = 0;

}  // namespace

void ClaimMap::add(const ByteRange& range, int64_t entry) {
  if (range.length > 0) claims_.push_back({range, entry});
}

void ClaimMap::settle() {
  std::ranges::sort(claims_, [](const Claim& a, const Claim& b) {
    return a.range.offset != b.range.offset ? a.range.offset < b.range.offset : a.entry < b.entry;
  });
  std::vector<Claim> kept;
  kept.reserve(claims_.size());
  uint64_t covered = 0;  // everything claimed so far ends here
  for (const Claim& claim : claims_) {
    // Those it shares bytes with are the last ones kept.
    size_t looked_at = 0;
    for (auto before = kept.rbegin(); before != kept.rend() && looked_at < kMostDisputes &&
                                      before->range.end() > claim.range.offset;
         ++before, ++looked_at) {
      const uint64_t shared = overlap(before->range, claim.range).length;
      if (shared == 0) continue;
      if (before->entry != kNoEntry) disputed_[before->entry] += shared;
      if (claim.entry != kNoEntry) disputed_[claim.entry] += shared;
    }
    if (claim.range.end() <= covered) continue;
    const uint64_t begin = std::max(claim.range.offset, covered);
    kept.push_back({{begin, claim.range.end() - begin}, claim.entry});
    covered = claim.range.end();
  }
  claims_ = std::move(kept);
}

const Claim* ClaimMap::at_or_after(uint64_t offset) const {
  const auto found = std::ranges::partition_point(
      claims_, [&](const Claim& claim) { return claim.range.end() <= offset; });
  return found == claims_.end() ? nullptr : &*found;
}

void ClaimMap::each_overlap(
    const ByteRange& range,
    const std::function<void(const Claim&, const ByteRange&)>& visit) const {
  if (claims_.empty()) return;
  for (const Claim* claim = at_or_after(range.offset);
       claim != nullptr && claim <= &claims_.back() && claim->range.offset < range.end(); ++claim) {
    visit(*claim, overlap(claim->range, range));
  }
}

void each_ownerless(const ClaimMap& claims, const NextUsed& next_used, int64_t volume,
                    const ByteRange& range, const std::function<void(const ByteRange&)>& visit) {
  uint64_t at = range.offset;
  const auto visit_until = [&](uint64_t end) {
    while (at < end) {
      const ByteRange used = next_used(volume, {at, end - at});
      const ByteRange inside = overlap(used, {at, end - at});
      if (inside.length == 0) break;
      visit(inside);
      at = inside.end();
    }
  };
  claims.each_overlap(range, [&](const Claim&, const ByteRange& shared) {
    visit_until(shared.offset);
    at = shared.end();
  });
  visit_until(range.end());
}

ClaimMap load_claims(const Shelf& shelf) {
  ClaimMap claims;
  SQLite::Statement row(shelf.db(), R"sql(
    SELECT s.entry, s.pieces FROM streams s JOIN entries e ON e.id=s.entry
    JOIN volumes v ON v.id=e.volume
    WHERE s.open=0 AND e.merged_into IS NULL AND v.inside IS NULL AND
      (e.state='live' OR (e.kind='folder' AND s.name IS NULL AND e.state='deleted'))
    UNION ALL
    SELECT t.entry, t.pieces FROM structures t JOIN entries e ON e.id=t.entry
    JOIN volumes v ON v.id=e.volume
    WHERE v.inside IS NULL AND e.merged_into IS NULL AND e.state='live'
    UNION ALL
    SELECT 0, structures FROM volumes WHERE standing='current' AND inside IS NULL)sql");
  while (row.executeStep()) {
    const int64_t entry = row.getColumn(0).getInt64();
    for (const Piece& piece : pieces_of(row.getColumn(1))) {
      if (piece.kind == Piece::Kind::range) claims.add({piece.offset, piece.length}, entry);
    }
  }
  claims.settle();
  return claims;
}

}  // namespace undershelf
