#include "placing/placing.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>
#include <array>
#include <optional>
#include <unordered_map>
#include <vector>

#include "content/types.h"
#include "model/entry.h"
#include "placing/lost_map.h"
#include "shelf/rows.h"
#include "shelf/shelf.h"
#include "source/source.h"

namespace undershelf {

Placed place_contiguously(uint64_t first, uint64_t size, const ClusterGrid& grid,
                          const std::function<Obstacle(uint64_t)>& next) {
  Placed placed;
  uint64_t at = first;
  uint64_t left = size;
  while (left > 0 && at < grid.heap_end) {
    const Obstacle obstacle = next(at);
    uint64_t until = grid.heap_end;
    if (obstacle.range.length > 0) {
      if (obstacle.range.offset > at) {
        until = std::min(until, obstacle.range.offset);
      } else {
        until = std::min(until, grid.rounded_up(obstacle.range.end()));
        // The first cluster is recorded, so it can only be overwritten.
        if (obstacle.stepped_over && at != first) {
          at = until;
          ++placed.gaps;
          continue;
        }
      }
    }
    const uint64_t take = std::min(left, until - at);
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
bool was_there_first(const Times& holder, const Times& lost) {
  // A deleted folder's cluster that still holds the folder never held the file's content.
  if (holder.folder && !holder.live) return true;
  if (lost.created && holder.created && *lost.created != *holder.created) {
    const bool first = *holder.created < *lost.created;
    const bool done = !holder.written() || *holder.written() <= *lost.written() ||
                      *holder.created == *holder.written();
    // A holder that was there first and went on growing may have taken the place later.
    return first && done;
  }
  return lost.modified && holder.modified && *holder.modified <= *lost.modified;
}

struct LostStream {
  int64_t id = 0;
  int64_t entry = 0;
  int64_t volume = 0;
  uint64_t first = 0;
  uint64_t size = 0;
  Pieces hint;
  Times times;
  const Format* format = nullptr;
  bool overwritten = false;  // a younger lost file starts inside it

  int64_t born() const {
    const auto time = times.created ? times.created : times.modified;
    return time ? time->ticks : 0;
  }
};

class Placer {
 public:
  Placer(Shelf& shelf, const ClaimMap& claims, const Source* source)
      : db_(shelf.db()),
        claims_(claims),
        source_(source),
        times_(db_,
               "SELECT created, modified, kind='folder', state='live' FROM entries WHERE id=?"),
        update_(db_, "UPDATE streams SET pieces=?, placement=?, stepped=? WHERE id=?") {
    for (const VolumeRecord& record : shelf.volumes()) {
      const Volume& v = record.volume;
      grids_[record.id] = {v.heap_offset, v.cluster_size,
                           v.heap_offset + v.cluster_count * v.cluster_size};
    }
  }

  void run() {
    load();
    for (uint32_t i = 0; i < lost_.size(); ++i) place(i);
  }

 private:
  void load() {
    SQLite::Statement row(db_, R"sql(
      SELECT s.id, s.entry, e.volume, s.first, s.size, s.hint, e.created, e.modified, e.name
      FROM streams s JOIN entries e ON e.id=s.entry
      WHERE s.open=1 AND e.merged_into IS NULL)sql");
    while (row.executeStep()) {
      LostStream s;
      s.id = row.getColumn(0).getInt64();
      s.entry = row.getColumn(1).getInt64();
      s.volume = row.getColumn(2).getInt64();
      s.first = size_of(row.getColumn(3));
      s.size = size_of(row.getColumn(4));
      s.hint = pieces_of(row.getColumn(5));
      s.times.created = maybe_time(row.getColumn(6));
      s.times.modified = maybe_time(row.getColumn(7));
      s.format = &format_by_name(row.getColumn(8).getText());
      lost_.push_back(std::move(s));
    }
    std::ranges::sort(lost_, [](const LostStream& a, const LostStream& b) {
      return a.born() != b.born() ? a.born() < b.born() : a.id < b.id;
    });
    for (uint32_t i = 0; i < lost_.size(); ++i) {
      if (lost_[i].size > 0) starts_.emplace_back(lost_[i].first, i);
    }
    std::ranges::sort(starts_);
  }

  void place(uint32_t number) {
    LostStream& stream = lost_[number];
    const ClusterGrid& grid = grids_.at(stream.volume);
    // Whatever lost file lay where this one starts was deleted by then.
    const LostMap::Holding before = held_.at_or_after(stream.first);
    if (before.range.length > 0 && before.range.offset <= stream.first) {
      lost_[before.stream].overwritten = true;
    }
    Placed placed;
    bool exact = stream.size <= grid.cluster_size;  // one cluster is where its entry says
    if (!stream.hint.empty() && is_unclaimed(stream.hint)) {
      placed.pieces = truncated(stream.hint, stream.size);
      exact = true;
    } else {
      placed = place_contiguously(stream.first, stream.size, grid,
                                  [&](uint64_t at) { return next_obstacle(number, at, grid); });
    }
    store(stream.id, placed, exact ? Placement::exact : Placement::inferred);
    for (const Piece& piece : placed.pieces) {
      if (piece.kind == Piece::Kind::range) {
        held_.assign({piece.offset, grid.rounded_up(piece.offset + piece.length) - piece.offset},
                     number);
      }
    }
  }

  // The nearest of: a living file or folder, an older lost file, a younger one that was begun
  // while this one was still being written.
  Obstacle next_obstacle(uint32_t number, uint64_t at, const ClusterGrid& grid) {
    const LostStream& stream = lost_[number];
    Obstacle nearest;
    const auto consider = [&](const ByteRange& range, const auto& stepped_over) {
      const bool is_nearer = nearest.range.length == 0 ||
                             std::max(range.offset, at) < std::max(nearest.range.offset, at);
      if (range.length > 0 && is_nearer) {
        nearest.range = range;
        nearest.stepped_over = range.offset <= at && stepped_over();
      }
    };
    if (const Claim* claim = claims_.at_or_after(at); claim != nullptr) {
      consider(claim->range, [&] { return was_there_first(times_of(claim->entry), stream.times); });
    }
    const LostMap::Holding older = held_.at_or_after(at);
    consider(older.range, [&] { return is_still_there(lost_[older.stream]); });
    const auto begun = std::ranges::lower_bound(starts_, std::pair{at, uint32_t{0}});
    if (begun != starts_.end() && begun->second > number) {
      const LostStream& younger = lost_[begun->second];
      if (was_begun_during(younger, stream)) {
        consider({younger.first, grid.rounded_up(younger.first + younger.size) - younger.first},
                 [] { return true; });
      }
    }
    return nearest;
  }

  // Whether an older lost file was not yet deleted when the one being placed was written. It was
  // if nothing younger starts inside it and its beginning is not another's content by now.
  bool is_still_there(const LostStream& older) const {
    return !older.overwritten && head_of(older) != HeadMatch::differs;
  }

  static bool was_begun_during(const LostStream& younger, const LostStream& older) {
    return younger.times.created && older.times.created && older.times.modified &&
           *younger.times.created > *older.times.created &&
           *younger.times.created <= *older.times.modified;
  }

  HeadMatch head_of(const LostStream& stream) const {
    if (source_ == nullptr) return HeadMatch::unknown;
    std::array<std::byte, 512> head{};
    const auto bytes = std::span(head).first(std::min<uint64_t>(head.size(), stream.size));
    if (!source_->read(stream.first, bytes).ok()) return HeadMatch::unknown;
    return match_head(*stream.format, bytes);
  }

  bool is_unclaimed(const Pieces& pieces) const {
    bool unclaimed = true;
    for (const Piece& piece : pieces) {
      claims_.each_overlap({piece.offset, piece.length},
                           [&](const Claim&, const ByteRange&) { unclaimed = false; });
    }
    return unclaimed;
  }

  Times times_of(int64_t entry) {
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
  const Source* source_;
  SQLite::Statement times_, update_;
  std::unordered_map<int64_t, ClusterGrid> grids_;
  std::vector<LostStream> lost_;                       // oldest first
  std::vector<std::pair<uint64_t, uint32_t>> starts_;  // first byte and number, by place
  LostMap held_;
};

}  // namespace

void place_open_streams(Shelf& shelf, const ClaimMap& claims, const Source* source) {
  SQLite::Transaction transaction(shelf.db());
  Placer(shelf, claims, source).run();
  transaction.commit();
}

}  // namespace undershelf
