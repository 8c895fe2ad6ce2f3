#include "placing/placing.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>
#include <optional>
#include <unordered_map>
#include <vector>

#include "model/entry.h"
#include "shelf/rows.h"
#include "shelf/shelf.h"

namespace undershelf {

Placed place_contiguously(uint64_t first, uint64_t size, const ClusterGrid& grid,
                          const ClaimMap& claims,
                          const std::function<Obstacle(const Claim&)>& judge) {
  Placed placed;
  uint64_t at = first;
  uint64_t left = size;
  while (left > 0 && at < grid.heap_end) {
    const Claim* claim = claims.at_or_after(at);
    const uint64_t free_until =
        claim == nullptr ? grid.heap_end : std::clamp(claim->range.offset, at, grid.heap_end);
    uint64_t take = std::min(left, free_until - at);
    if (take == 0) {
      // A claim covers this place. The first cluster is recorded, so it can only be overwritten.
      const uint64_t behind =
          grid.heap_offset + (claim->range.end() - grid.heap_offset + grid.cluster_size - 1) /
                                 grid.cluster_size * grid.cluster_size;
      if (at != first && judge(*claim) == Obstacle::stepped_over) {
        at = behind;
        ++placed.gaps;
        continue;
      }
      take = std::min(left, std::min(behind, grid.heap_end) - at);
    }
    append_piece(placed.pieces, {Piece::Kind::range, at, take});
    at += take;
    left -= take;
  }
  append_piece(placed.pieces, {Piece::Kind::unknown, 0, left});
  return placed;
}

namespace {

struct Times {
  std::optional<Time> created, modified;
  bool folder = false;
  bool live = false;
  // When its content was last known to be written.
  std::optional<Time> written() const { return std::max(created, modified); }
};

// Whether `holder` was in its place before `lost` was written. Drivers record when an entry was
// created more finely than when it was last written, so creation decides where both have it.
Obstacle judge_by_age(const Times& lost, const Times& holder) {
  // A deleted folder's cluster that still holds the folder never held the file's content.
  if (holder.folder && !holder.live) return Obstacle::stepped_over;
  if (lost.created && holder.created && *lost.created != *holder.created) {
    const bool first = *holder.created < *lost.created;
    const bool done = !holder.written() || *holder.written() <= *lost.written() ||
                      *holder.created == *holder.written();
    // A holder that was there first and went on growing may have taken the place later.
    return first && done ? Obstacle::stepped_over : Obstacle::overwrote;
  }
  const bool before = lost.modified && holder.modified && *holder.modified <= *lost.modified;
  return before ? Obstacle::stepped_over : Obstacle::overwrote;
}

struct OpenStream {
  int64_t id = 0;
  int64_t entry = 0;
  int64_t volume = 0;
  uint64_t first = 0;
  uint64_t size = 0;
  Pieces hint;
};

class Placer {
 public:
  Placer(Shelf& shelf, const ClaimMap& claims)
      : db_(shelf.db()),
        claims_(claims),
        times_(db_,
               "SELECT created, modified, kind='folder', state='live' FROM entries "
               "WHERE id=?"),
        update_(db_, "UPDATE streams SET pieces=?, placement=?, stepped=? WHERE id=?") {
    for (const VolumeRecord& record : shelf.volumes()) {
      const Volume& v = record.volume;
      grids_[record.id] = {v.heap_offset, v.cluster_size,
                           v.heap_offset + v.cluster_count * v.cluster_size};
    }
  }

  void place(const OpenStream& stream) {
    const ClusterGrid& grid = grids_.at(stream.volume);
    if (!stream.hint.empty() && is_unclaimed(stream.hint)) {
      store(stream.id, {truncated(stream.hint, stream.size), 0}, Placement::exact);
      return;
    }
    std::optional<Times> lost;
    const Placed placed =
        place_contiguously(stream.first, stream.size, grid, claims_, [&](const Claim& claim) {
          if (!lost) lost = times(stream.entry);
          return judge_by_age(*lost, times(claim.entry));
        });
    // A single cluster is where its entry says; more than one is inferred.
    store(stream.id, placed,
          stream.size <= grid.cluster_size ? Placement::exact : Placement::inferred);
  }

 private:
  bool is_unclaimed(const Pieces& pieces) const {
    bool unclaimed = true;
    for (const Piece& piece : pieces) {
      claims_.each_overlap({piece.offset, piece.length},
                           [&](const Claim&, const ByteRange&) { unclaimed = false; });
    }
    return unclaimed;
  }

  Times times(int64_t entry) {
    times_.bind(1, entry);
    Times found;
    if (times_.executeStep()) {
      found = {maybe_time(times_.getColumn(0)), maybe_time(times_.getColumn(1)),
               times_.getColumn(2).getInt() != 0, times_.getColumn(3).getInt() != 0};
    }
    times_.reset();
    return found;
  }

  void store(int64_t id, const Placed& placed, Placement placement) {
    const std::string packed = pack(placed.pieces);
    update_.bindNoCopy(1, packed.data(), static_cast<int>(packed.size()));
    update_.bindNoCopy(2, to_text(placement).data());
    update_.bind(3, static_cast<int64_t>(placed.gaps));
    update_.bind(4, id);
    update_.exec();
    update_.reset();
  }

  SQLite::Database& db_;
  const ClaimMap& claims_;
  SQLite::Statement times_, update_;
  std::unordered_map<int64_t, ClusterGrid> grids_;
};

}  // namespace

void place_open_streams(Shelf& shelf, const ClaimMap& claims) {
  SQLite::Database& db = shelf.db();
  std::vector<OpenStream> open;
  SQLite::Statement row(db,
                        "SELECT s.id, s.entry, e.volume, s.first, s.size, s.hint "
                        "FROM streams s JOIN entries e ON e.id=s.entry "
                        "WHERE s.open=1 AND e.merged_into IS NULL");
  while (row.executeStep()) {
    open.push_back({row.getColumn(0).getInt64(), row.getColumn(1).getInt64(),
                    row.getColumn(2).getInt64(), size_of(row.getColumn(3)),
                    size_of(row.getColumn(4)), pieces_of(row.getColumn(5))});
  }
  SQLite::Transaction transaction(db);
  Placer placer(shelf, claims);
  for (const OpenStream& stream : open) placer.place(stream);
  transaction.commit();
}

}  // namespace undershelf
