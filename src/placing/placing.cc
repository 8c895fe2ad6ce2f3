#include "placing/placing.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <optional>
#include <unordered_map>
#include <unordered_set>
#include <vector>

#include "access/spaces.h"
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

// Whether a holder's place was never the lost file's, because both were there at the same time. It
// was if the holder was last written to before the lost file was. Where that is a tie, as times are
// recorded in steps of two seconds, creation decides. All else counts against the lost file.
bool stood_beside(const Times& holder, const Times& lost) {
  if (holder.folder) {
    // A deleted folder's cluster that still holds the folder never held the file's content. A
    // living one changes its time with each entry in it; its clusters came early.
    return !holder.live || (holder.created && lost.written() && holder.created <= lost.written());
  }
  if (!holder.written() || !lost.written()) return false;
  if (holder.written() != lost.written()) return *holder.written() < *lost.written();
  if (!holder.created || !lost.created || holder.created == lost.created) return false;
  return *holder.created < *lost.created || *holder.created < *lost.written();
}

constexpr int64_t kMoment = 120 * kTicksPerSecond;

// Candidates for first clusters that are read, in all; then the nearest few of each file.
constexpr size_t kMostCandidates = 2'000'000, kFewCandidates = 16;
constexpr size_t kTimesKept = 200'000;

struct LostStream {
  int64_t id = 0;
  int64_t entry = 0;
  int64_t volume = 0;
  int64_t parent = 0;  // entry of its folder; minus the volume for the root
  uint64_t first = 0;
  uint64_t first_step = 0;  // see Stream::first_step
  bool guessed = false;     // `first` was chosen among candidates
  uint64_t size = 0;
  Pieces hint;
  Times times;
  const Format* format = nullptr;
  bool live = false;         // was not deleted: only its chain is lost
  bool former = false;       // of a former volume
  bool fixed = false;        // its place, `hint`, is recorded: it is only in the others' way
  bool overwritten = false;  // a younger lost file starts inside it
  mutable std::optional<HeadMatch> head;  // once it was looked at
  uint64_t end = 0;                       // where it was placed ends, if that is not exact

  int64_t born() const {
    const auto time = times.created ? times.created : times.modified;
    return time ? time->ticks : 0;
  }
};

class Placer {
 public:
  Placer(Shelf& shelf, int64_t space, const ClaimMap& claims, const NextUsed& next_used,
         const Source* source)
      : db_(shelf.db()),
        space_(space),
        claims_(claims),
        next_used_(next_used),
        source_(source),
        times_(db_,
               "SELECT created, modified, kind='folder', state='live' FROM entries WHERE id=?"),
        update_(db_, "UPDATE streams SET pieces=?, placement=?, stepped=?, entangled=0 WHERE id=?"),
        entangle_(db_, "UPDATE streams SET entangled=1 WHERE id=?") {
    for (const VolumeRecord& record : shelf.volumes(false)) {
      const Volume& v = record.volume;
      grids_[record.id] = {v.heap_offset, v.cluster_size,
                           v.heap_offset + v.cluster_count * v.cluster_size};
    }
  }

  void run() {
    load();
    for (uint32_t i = 0; i < lost_.size(); ++i) place(i);
    for (const LostStream& stream : lost_) mark_entangled(stream);
    for (const int64_t id : entangled_) {
      entangle_.bind(1, id);
      entangle_.exec();
      entangle_.reset();
    }
  }

 private:
  void load() {
    load_streams("s.open=1", false);
    if (lost_.empty()) return;
    load_streams(
        "s.open=0 AND s.first IS NOT NULL AND s.size>0 AND e.kind='file' AND e.state<>'live'",
        true);
    // Folders of former volumes lie in their files' way as the files themselves do.
    load_streams(
        "s.open=0 AND s.name IS NULL AND length(s.pieces)>0 AND e.kind='folder' AND "
        "e.state='former'",
        true);
    order();
  }

  void load_streams(const char* which, bool fixed) {
    SQLite::Statement row(db_, fmt::format(R"sql(
      SELECT s.id, s.entry, e.volume, s.first, s.size, {}, e.created, e.modified, e.name,
             coalesce(s.first_step,0), coalesce(e.parent,-e.volume), e.state='live',
             e.marked_deleted, e.state='former'
      FROM streams s JOIN entries e ON e.id=s.entry JOIN volumes v ON v.id=e.volume
      WHERE {} AND e.merged_into IS NULL AND v.space=?)sql",
                                           fixed ? "s.pieces" : "s.hint", which));
    row.bind(1, space_);
    while (row.executeStep()) {
      LostStream s;
      s.fixed = fixed;
      s.id = row.getColumn(0).getInt64();
      s.entry = row.getColumn(1).getInt64();
      s.volume = row.getColumn(2).getInt64();
      s.first = size_of(row.getColumn(3));
      s.size = size_of(row.getColumn(4));
      s.hint = pieces_of(row.getColumn(5));
      s.times.created = maybe_time(row.getColumn(6));
      s.times.modified = maybe_time(row.getColumn(7));
      s.format = &format_by_name(row.getColumn(8).getText());
      s.first_step = size_of(row.getColumn(9));
      s.former = row.getColumn(13).getInt() != 0;
      s.live = row.getColumn(11).getInt() != 0 || (s.former && row.getColumn(12).getInt() == 0);
      if (fixed && s.size == 0) s.size = total_length(s.hint);
      s.parent = row.getColumn(10).getInt64();
      // A deleted entry that kept the high half of its first cluster tells how its driver deletes.
      const ClusterGrid& grid = grids_.at(s.volume);
      if (s.first_step == 0 && row.getColumn(12).getInt() != 0 &&
          s.first >= grid.heap_offset + grid.high_step()) {
        keeps_high_half_.insert(s.volume);
      }
      lost_.push_back(std::move(s));
    }
  }

  void order() {
    for (LostStream& s : lost_) {
      if (s.first_step != 0 && !keeps_high_half_.contains(s.volume)) choose_first(s);
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

  // Chooses among the candidates for a first cluster: one that is free and begins like the format,
  // of several the one nearest to another file of the folder. If none does, the least.
  void choose_first(LostStream& stream) {
    const ClusterGrid& grid = grids_.at(stream.volume);
    const std::optional<uint64_t> neighbour = neighbour_of(stream);
    std::pair<int, uint64_t> best{source_ == nullptr ? 0 : 1, 0};
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
      const Claim* claim = claims_.at_or_after(first);
      const bool claimed = claim != nullptr && claim->range.offset <= first;
      const int merit = claimed ? -1 : merit_of_content(stream, first);
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

  // 2: begins like its format; 1: could be; 0: nothing to tell by; -1: is something else or blank.
  int merit_of_content(const LostStream& stream, uint64_t first) const {
    if (source_ == nullptr) return 0;
    Head head{};
    const auto bytes = read_head(stream, first, head);
    if (bytes.empty()) return -1;
    const HeadMatch match = match_head(*stream.format, bytes);
    if (match == HeadMatch::differs) return -1;
    if (std::ranges::all_of(bytes, [&](std::byte b) { return b == bytes.front(); })) return -1;
    return match == HeadMatch::fits ? 2 : 1;
  }

  using Head = std::array<std::byte, 512>;

  // The beginning of a stream if it starts at `first`; empty if that cannot be read.
  std::span<const std::byte> read_head(const LostStream& stream, uint64_t first, Head& head) const {
    const auto bytes = std::span(head).first(std::min<uint64_t>(head.size(), stream.size));
    if (source_ == nullptr || !source_->read(first, bytes).ok()) return {};
    return bytes;
  }

  // Where the content of another file in the same folder starts for certain, if there is one.
  std::optional<uint64_t> neighbour_of(const LostStream& stream) {
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

  static bool was_begun_during(const LostStream& younger, const LostStream& older) {
    return younger.times.created && older.times.created && older.times.modified &&
           *younger.times.created > *older.times.created &&
           *younger.times.created <= *older.times.modified;
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

  static bool grew_together(const Times& a, const Times& b) {
    constexpr int64_t kStep = 4 * kTicksPerSecond;  // what times may hide
    if (!a.created || !a.modified || !b.created || !b.modified) return false;
    return std::max(*a.created, *b.created).ticks + kStep <
           std::min(*a.modified, *b.modified).ticks;
  }

  static uint64_t end_of(const Pieces& pieces) {
    uint64_t end = 0;
    for (const Piece& piece : pieces) {
      if (piece.kind == Piece::Kind::range) end = piece.offset + piece.length;
    }
    return end;
  }

  HeadMatch head_of(const LostStream& stream) const {
    if (!stream.head) {
      Head head{};
      stream.head = match_head(*stream.format, read_head(stream, stream.first, head));
    }
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

  Times times_of(int64_t entry) {
    if (const auto known = known_times_.find(entry); known != known_times_.end()) {
      return known->second;
    }
    if (known_times_.size() >= kTimesKept) known_times_.clear();
    times_.bind(1, entry);
    Times found;
    if (times_.executeStep()) {
      found = {maybe_time(times_.getColumn(0)), maybe_time(times_.getColumn(1)),
               times_.getColumn(2).getInt() != 0, times_.getColumn(3).getInt() != 0};
    }
    times_.reset();
    known_times_.emplace(entry, found);
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
  const int64_t space_;
  const ClaimMap& claims_;
  const NextUsed& next_used_;
  const Source* source_;
  SQLite::Statement times_, update_, entangle_;
  std::optional<std::unordered_map<int64_t, uint64_t>> neighbours_;  // folder to first byte
  std::unordered_map<int64_t, ClusterGrid> grids_;
  std::unordered_set<int64_t> keeps_high_half_;        // volumes
  std::unordered_set<int64_t> entangled_;              // streams
  std::vector<LostStream> lost_;                       // oldest first
  std::vector<std::pair<uint64_t, uint32_t>> starts_;  // first byte and number, by place
  LostMap held_;
  std::unordered_map<int64_t, Times> known_times_;  // of entries, the ones asked for last
  size_t candidates_left_ = kMostCandidates;
};

}  // namespace

void place_open_streams(Shelf& shelf, const Claims& claims, const NextUsed& next_used,
                        Spaces* spaces) {
  SQLite::Transaction transaction(shelf.db());
  for (const auto& [space, held] : claims) {
    const Source* source = spaces != nullptr ? spaces->at(space).get() : nullptr;
    Placer(shelf, space, held, next_used, source).run();
  }
  transaction.commit();
}

}  // namespace undershelf
