#include "placing/placing.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>
#include <unordered_map>
#include <unordered_set>
#include <vector>

#include "access/spaces.h"
#include "model/budget.h"
#include "model/entry.h"
#include "placing/contiguous.h"
#include "placing/first_cluster.h"
#include "placing/lost_map.h"
#include "placing/lost_streams.h"
#include "shelf/rows.h"
#include "shelf/shelf.h"
#include "source/source.h"

namespace undershelf {
namespace {

constexpr int64_t kMoment = 120 * kTicksPerSecond;
constexpr size_t kTimesKept = 200'000;

class Placer {
 public:
  // All of one space. The references must outlive it.
  Placer(SQLite::Database& db, LostStreams lost, const Grids& grids, const ClaimMap& claims,
         const NextUsed& next_used, const Source* source, Budget& budget)
      : db_(db),
        budget_(budget),
        grids_(grids),
        claims_(claims),
        next_used_(next_used),
        source_(source),
        times_(db_,
               "SELECT created, modified, kind='folder', state='live' FROM entries WHERE id=?"),
        update_(db_,
                // What was found by looking at it counts where it was looked at.
                "UPDATE streams SET checked=CASE WHEN pieces=?1 THEN checked END, "
                "format=CASE WHEN pieces=?1 THEN format END, "
                "type=CASE WHEN pieces=?1 THEN type END, "
                "sha256=CASE WHEN pieces=?1 THEN sha256 END, "
                "pieces=?1, placement=?2, stepped=?3, entangled=0 WHERE id=?4"),
        entangle_(db_, "UPDATE streams SET entangled=1 WHERE id=?"),
        lost_(std::move(lost.all)),
        keeps_high_half_(std::move(lost.keep_high_half)) {}

  void run(FirstClusters& first_clusters) {
    order(first_clusters);
    for (uint32_t i = 0; i < lost_.size(); ++i) place(i);
    for (const LostStream& stream : lost_) mark_entangled(stream);
    for (const StreamId id : entangled_) {
      entangle_.bind(1, number_of(id));
      entangle_.exec();
      entangle_.reset();
    }
  }

 private:
  void order(FirstClusters& first_clusters) {
    for (LostStream& s : lost_) {
      if (s.first_step == 0 || keeps_high_half_.contains(s.volume)) continue;
      first_clusters.choose(s, grids_.at(s.volume), claims_, source_);
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
    if (before.range.length > 0 && before.range.offset <= stream.first &&
        lost_[before.stream].volume == stream.volume) {
      lost_[before.stream].overwritten = true;
    }
    if (stream.fixed) return hold(stream.hint, number);
    Placed placed;
    bool exact = stream.size <= grid.cluster_size;  // one cluster is where its entry says
    // The chain of a former file is right, whatever has been written over it since.
    if (!stream.hint.empty() && (stream.former || is_unclaimed(stream.hint))) {
      placed.pieces = truncated(stream.hint, stream.size);
      exact = true;
    } else {
      const bool owns_chain = next_used_(stream.volume, {stream.first, 1}).length > 0;
      placed = place_contiguously(stream.first, stream.size, grid, [&](uint64_t at) {
        const Obstacle known = next_obstacle(number, at, grid);
        return owns_chain || stream.former ? known : nearer_ownerless(known, stream, at, grid);
      });
    }
    store(stream.id, placed,
          stream.guessed ? Placement::guessed
          : exact        ? Placement::exact
                         : Placement::inferred);
    if (!exact && !placed.pieces.empty()) stream.end = end_of(placed.pieces);
    hold(placed.pieces, number);
  }

  void hold(const Pieces& pieces, uint32_t number) {
    const ClusterGrid& grid = grids_.at(lost_[number].volume);
    for (const Piece& piece : pieces) {
      if (piece.kind != Piece::Kind::range || piece.offset < grid.heap_offset) continue;
      held_.assign({piece.offset, grid.rounded_up(piece.offset + piece.length) - piece.offset},
                   number);
    }
  }

  // The nearest of: a living file or folder, an older lost file, a younger one that was begun
  // while this one was still being written.
  Obstacle next_obstacle(uint32_t number, uint64_t at, const ClusterGrid& grid) {
    budget_.step();
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
    // What is there now came after a former volume's files.
    const Claim* claim = stream.former ? nullptr : claims_.at_or_after(at);
    if (claim != nullptr) {
      consider(claim->range, [&] {
        const Times holder = times_of(claim->entry);
        if (stood_beside(holder, stream.times)) return true;
        // A file that was last written a moment later than this one, and grew while it did, hardly
        // came into its place afterwards.
        if (!grew_together(holder, stream.times) ||
            holder.written()->ticks - stream.times.written()->ticks > kMoment) {
          return false;
        }
        entangled_.insert(stream.id);
        return true;
      });
    }
    const LostMap::Holding older = held_.at_or_after(at);
    consider(older.range, [&] {
      const LostStream& holder = lost_[older.stream];
      return holder.volume == stream.volume && is_still_there(holder);
    });
    // Younger ones that begin here or further on; itself, and older ones, are not among them.
    constexpr int kMostLookedAt = 64;
    auto begun = std::ranges::lower_bound(starts_, std::pair{at, uint32_t{0}});
    for (int i = 0; i < kMostLookedAt && begun != starts_.end(); ++i, ++begun) {
      const LostStream& younger = lost_[begun->second];
      if (begun->second <= number || younger.volume != stream.volume) continue;
      if ((younger.live && stream.live) || was_begun_during(younger, stream)) {
        consider({younger.first, grid.rounded_up(younger.first + younger.size) - younger.first},
                 [] { return true; });
        break;
      }
    }
    return nearest;
  }

  // `known`, or what lies before it and is in use by an owner that was not found. That holds other
  // bytes than the lost file's now, and probably did so before: it is stepped over.
  Obstacle nearer_ownerless(const Obstacle& known, const LostStream& stream, uint64_t at,
                            const ClusterGrid& grid) const {
    uint64_t until = std::min(
        grid.heap_end, at + grid.rounded_up(grid.heap_offset + stream.size) - grid.heap_offset);
    if (known.range.length > 0) until = std::min(until, known.range.offset);
    if (until <= at) return known;
    const ByteRange used = next_used_(stream.volume, {at, until - at});
    return used.length > 0 ? Obstacle{used, true} : known;
  }

  // Whether an older lost file was not yet deleted when the one being placed was written. It was
  // if nothing younger starts inside it and its beginning is not another's content by now.
  bool is_still_there(const LostStream& older) const {
    return older.live || (!older.overwritten && head_of(older) != HeadMatch::differs);
  }

  // Two lost files that both grew for a while, at the same time, and of which one begins inside
  // the other, probably lie cluster by cluster in turn; nothing records how.
  void mark_entangled(const LostStream& stream) {
    constexpr size_t kMostLookedAt = 4096;
    auto next = std::ranges::upper_bound(starts_, std::pair{stream.first, UINT32_MAX});
    for (size_t i = 0; i < kMostLookedAt && next != starts_.end() && next->first < stream.end;
         ++i, ++next) {
      const LostStream& other = lost_[next->second];
      if (stream.live || other.live || !grew_together(stream.times, other.times)) continue;
      entangled_.insert({stream.id, other.id});
    }
  }

  static uint64_t end_of(const Pieces& pieces) {
    uint64_t end = 0;
    for (const Piece& piece : pieces) {
      if (piece.kind == Piece::Kind::range) end = piece.offset + piece.length;
    }
    return end;
  }

  HeadMatch head_of(const LostStream& stream) const {
    if (!stream.head) stream.head = head_at(source_, stream, stream.first);
    return *stream.head;
  }

  bool is_unclaimed(const Pieces& pieces) const {
    bool unclaimed = true;
    for (const Piece& piece : pieces) {
      claims_.each_overlap({piece.offset, piece.length},
                           [&](const Claim&, const ByteRange&) { unclaimed = false; });
    }
    return unclaimed;
  }

  Times times_of(EntryId entry) {
    if (const auto known = known_times_.find(entry); known != known_times_.end()) {
      return known->second;
    }
    if (known_times_.size() >= kTimesKept) known_times_.clear();
    times_.bind(1, number_of(entry));
    Times found;
    if (times_.executeStep()) {
      found = {maybe_time(times_.getColumn(0)), maybe_time(times_.getColumn(1)),
               times_.getColumn(2).getInt() != 0, times_.getColumn(3).getInt() != 0};
    }
    times_.reset();
    known_times_.emplace(entry, found);
    return found;
  }

  void store(StreamId id, const Placed& placed, Placement placement) {
    const std::string packed = pack(placed.pieces);
    update_.bindNoCopy(1, packed.data(), static_cast<int>(packed.size()));
    update_.bindNoCopy(2, to_text(placement).data());
    update_.bind(3, static_cast<int64_t>(placed.gaps));
    update_.bind(4, number_of(id));
    update_.exec();
    update_.reset();
  }

  SQLite::Database& db_;
  Budget& budget_;
  const Grids& grids_;
  const ClaimMap& claims_;
  const NextUsed& next_used_;
  const Source* source_;
  SQLite::Statement times_, update_, entangle_;
  std::vector<LostStream> lost_;                        // oldest first
  const std::unordered_set<VolumeId> keeps_high_half_;  // volumes
  std::unordered_set<StreamId> entangled_;              // streams
  std::vector<std::pair<uint64_t, uint32_t>> starts_;   // first byte and number, by place
  LostMap held_;
  std::unordered_map<EntryId, Times> known_times_;  // of entries, the ones asked for last
};

}  // namespace

void place_open_streams(Shelf& shelf, const Claims& claims, const NextUsed& next_used,
                        Spaces* spaces, Budget& budget) {
  SQLite::Database& db = shelf.db();
  SQLite::Transaction transaction(db);
  const Grids grids = grids_of(shelf);
  FirstClusters first_clusters(db);
  for (auto& [space, lost] : load_lost_streams(shelf, grids)) {
    const auto held = claims.find(space);
    if (held == claims.end()) continue;
    const Source* source = spaces != nullptr ? spaces->at(space).get() : nullptr;
    Placer(db, std::move(lost), grids, held->second, next_used, source, budget).run(first_clusters);
  }
  transaction.commit();
}

}  // namespace undershelf
