#include "placing/claims.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>
#include <map>

#include "access/spaces.h"
#include "shelf/rows.h"
#include "shelf/shelf.h"
#include "shelf/volume_table.h"

namespace undershelf {
namespace {

// Claims looked at for one dispute; only damage, or malice, makes more overlap in one place.
constexpr size_t kClaimsLookedAt = 256;
constexpr size_t kMostDisputes = 100'000;
constexpr EntryId kNoEntry = EntryId::none;

}  // namespace

void ClaimMap::add(const ByteRange& range, EntryId entry) {
  if (range.length > 0) claims_.push_back({range, entry});
}

void ClaimMap::settle(const std::function<bool(EntryId, EntryId)>& alike) {
  std::ranges::sort(claims_, [](const Claim& a, const Claim& b) {
    return a.range.offset != b.range.offset ? a.range.offset < b.range.offset : a.entry < b.entry;
  });
  std::vector<Dispute> disputes;
  std::vector<Claim> kept;
  kept.reserve(claims_.size());
  uint64_t covered = 0;  // everything claimed so far ends here
  for (const Claim& claim : claims_) {
    // Those it shares bytes with are the last ones kept.
    size_t looked_at = 0;
    for (auto before = kept.rbegin(); before != kept.rend() && looked_at < kClaimsLookedAt &&
                                      before->range.end() > claim.range.offset;
         ++before, ++looked_at) {
      const ByteRange shared = overlap(before->range, claim.range);
      if (shared.length == 0 || disputes.size() >= kMostDisputes) continue;
      disputes.push_back({shared, before->entry, claim.entry});
    }
    if (claim.range.end() <= covered) continue;
    const uint64_t begin = std::max(claim.range.offset, covered);
    kept.push_back({{begin, claim.range.end() - begin}, claim.entry});
    covered = claim.range.end();
  }
  keep_disputes(disputes, alike);
  claims_ = std::move(kept);
}

void ClaimMap::keep_disputes(const std::vector<Dispute>& found,
                             const std::function<bool(EntryId, EntryId)>& alike) {
  if (found.empty()) return;
  std::unordered_map<EntryId, uint64_t> totals;  // bytes that an entry claims
  for (const Dispute& dispute : found) totals[dispute.first] = totals[dispute.second] = 0;
  for (const Claim& claim : claims_) {
    const auto total = totals.find(claim.entry);
    if (total != totals.end()) total->second += claim.range.length;
  }
  std::map<std::pair<EntryId, EntryId>, uint64_t> shared;
  for (const Dispute& dispute : found) {
    shared[std::minmax(dispute.first, dispute.second)] += dispute.range.length;
  }
  for (const Dispute& dispute : found) {
    const uint64_t bytes = shared[std::minmax(dispute.first, dispute.second)];
    const bool same = dispute.first != kNoEntry && bytes == totals[dispute.first] &&
                      bytes == totals[dispute.second] && alike(dispute.first, dispute.second);
    if (same) continue;
    disputes_.push_back(dispute);
    for (const EntryId entry : {dispute.first, dispute.second}) {
      if (entry != kNoEntry) disputed_[entry].push_back(dispute.range);
    }
  }
}

void ClaimMap::each_dispute(const ByteRange& range, EntryId entry,
                            const std::function<void(const ByteRange&)>& visit) const {
  const auto known = disputed_.find(entry);
  if (known == disputed_.end()) return;
  for (const ByteRange& dispute : known->second) {
    const ByteRange shared = overlap(dispute, range);
    if (shared.length > 0) visit(shared);
  }
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

void each_ownerless(const ClaimMap& claims, const NextUsed& next_used, VolumeId volume,
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

Claims load_claims(const Shelf& shelf) {
  Claims claims;
  for (const SpaceId space : spaces_of(shelf)) claims.try_emplace(space);
  SQLite::Statement row(shelf.db(), R"sql(
    SELECT s.entry, s.pieces, e.volume FROM streams s JOIN entries e ON e.id=s.entry
    WHERE s.open=0 AND e.merged_into IS NULL AND
      (e.state='live' OR (e.kind='folder' AND s.name IS NULL AND e.state='deleted'))
    UNION ALL
    SELECT t.entry, t.pieces, e.volume FROM structures t JOIN entries e ON e.id=t.entry
    WHERE e.merged_into IS NULL AND e.state='live'
    UNION ALL
    SELECT 0, structures, id FROM volumes WHERE standing='current')sql");
  const VolumeTable volumes(shelf);
  Columns columns(row);
  while (row.executeStep()) {
    const EntryId entry = id_of<EntryId>(columns[0]);
    const VolumeRecord* volume = volumes.find(id_of<VolumeId>(columns[2]));
    if (volume == nullptr || volume->inside) continue;
    const auto space = claims.find(volume->space);
    if (space == claims.end()) continue;
    for (const Piece& piece : pieces_of(columns[1])) {
      if (piece.kind == Piece::Kind::range) space->second.add({piece.offset, piece.length}, entry);
    }
  }
  SQLite::Statement sizes(
      shelf.db(),
      "SELECT count(DISTINCT size)=1 AND count(*)>1 FROM streams WHERE entry IN "
      "(?,?) AND name IS NULL");
  const auto are_alike = [&](EntryId a, EntryId b) {
    sizes.reset();
    sizes.bind(1, number_of(a));
    sizes.bind(2, number_of(b));
    return sizes.executeStep() && sizes.getColumn(0).getInt() != 0;
  };
  for (auto& [space, map] : claims) map.settle(are_alike);
  return claims;
}

}  // namespace undershelf
