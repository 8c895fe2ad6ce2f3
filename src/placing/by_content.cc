#include "placing/by_content.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>
#include <memory>
#include <optional>
#include <string_view>
#include <thread>
#include <unordered_map>
#include <vector>

#include "access/spaces.h"
#include "checking/box.h"
#include "content/walk.h"
#include "model/budget.h"
#include "model/entry.h"
#include "placing/behind.h"
#include "placing/contiguous.h"
#include "placing/found_place.h"
#include "placing/lost_streams.h"
#include "shelf/rows.h"
#include "shelf/shelf.h"
#include "source/source.h"

namespace undershelf {
namespace {

constexpr int kRounds = 3;            // gaps in a file that are sought one after the other
constexpr size_t kMostObstacles = 8;  // per round and file
constexpr size_t kMostJoined = 64;    // that lie behind each other
constexpr size_t kFilesAtOnce = 256;  // of which all ways are kept
constexpr uint64_t kReadings = 2;     // times the source that may be read in all

// What other lost files hold, in the order of their beginnings; some of it overlaps.
using Held = std::vector<ByteRange>;

// A lost file that breaks off where it was placed.
struct Broken {
  StreamId stream{};
  EntryId entry{};
  SpaceId space{};
  VolumeId volume{};
  uint64_t first = 0, size = 0;  // bytes
  uint64_t sound_to = 0;         // bytes of the file that add up, as it is placed now
  Pieces pieces;
  std::vector<ByteRange> around;  // what it was placed around so far, and did better
  uint64_t tried = 0;             // ways to place it
  bool open = true;               // another round may help
};

// Whether it is a file's place: what lies there adds up, and so does its end, which zeros bear out;
// or foreign clusters would have been noticed in it.
enum class Fit : uint8_t { none, borne_out, vouched };

// One way to place a file.
struct Trial {
  size_t file = 0;
  Placed placed;
  std::vector<ByteRange> around;
  checking::Examined found;
  Fit fit = Fit::none;
};

// The byte of its space behind the first `length` bytes of a file.
uint64_t place_behind(const Pieces& pieces, uint64_t length) {
  for (const Piece& piece : pieces) {
    if (length <= piece.length) return piece.offset + length;
    length -= piece.length;
  }
  return 0;
}

size_t read_pieces(const Source& source, const Pieces& pieces, uint64_t at,
                   std::span<std::byte> out) {
  size_t done = 0;
  uint64_t begin = 0;
  for (const Piece& piece : pieces) {
    const uint64_t end = begin + piece.length;
    if (at + done < end && done < out.size()) {
      if (piece.kind != Piece::Kind::range) return done;
      const uint64_t inside = at + done - begin;
      const auto part = out.subspan(done, std::min(piece.length - inside, out.size() - done));
      const ReadResult read = source.read(piece.offset + inside, part);
      if (!read.ok()) return done + (read.bad.front().offset - (piece.offset + inside));
      done += part.size();
    }
    begin = end;
  }
  return done;
}

// Text adds up as long as it is text, which nothing else tells.
bool is_all_text(const checking::Examined& found) {
  return found.level == content::Level::unknown && std::string_view(found.format.data()) == "text";
}

Fit fit_of(const Trial& trial, const Broken& file, uint64_t cluster, const Source& source) {
  const checking::Examined& found = trial.found;
  if (found.level == content::Level::verified) return Fit::vouched;
  if (found.notices_foreign_clusters()) {
    return found.sound_to + cluster > file.size ? Fit::vouched : Fit::none;
  }
  const bool is_sound = found.level == content::Level::consistent || is_all_text(found);
  if (!is_sound || found.sound_to != file.size) return Fit::none;
  const Behind behind = behind_end(trial.placed.pieces.back(), source);
  return behind == Behind::zeros ? Fit::borne_out : Fit::none;
}

class ByContent {
 public:
  ByContent(Shelf& shelf, Spaces& spaces, const Claims& claims, const Budget& budget)
      : db_(shelf.db()),
        spaces_(spaces),
        claims_(claims),
        budget_(budget),
        grids_(grids_of(shelf)),
        may_read_(std::min(spaces.at(SpaceId::source)->size(), UINT64_MAX / kReadings) * kReadings),
        box_(std::max(1U, std::thread::hardware_concurrency()), checking::examine_if_sound) {
    load_broken();
    if (!broken_.empty()) load_held();
  }

  PlacedByContent run() {
    for (size_t from = 0; from < broken_.size(); from += kFilesAtOnce) {
      const size_t end = std::min(broken_.size(), from + kFilesAtOnce);
      for (int round = 0; round < kRounds; ++round) {
        std::vector<Trial> trials = trials_of_round(from, end);
        if (trials.empty()) break;
        examine(trials);
        if (budget_.is_stopped()) throw Stopped{};
        settle(trials);
      }
    }
    return result_;
  }

 private:
  void load_broken() {
    SQLite::Statement row(db_, R"sql(
      SELECT s.id, e.id, v.space, e.volume, s.first, s.size, s.sound_to, s.pieces,
        s.checked='broken', s.format
      FROM streams s JOIN entries e ON e.id=s.entry JOIN volumes v ON v.id=e.volume
      WHERE (s.checked IN ('broken','consistent') OR (s.checked='unknown' AND s.format='text'))
        AND s.placement='inferred' AND s.open=1 AND s.codec IS NULL
        AND s.encoding='plain' AND s.valid_size=s.size AND e.state<>'live' AND e.merged_into IS NULL
      ORDER BY v.space, s.first)sql");
    while (row.executeStep()) {
      Broken file{id_of<StreamId>(row.getColumn(0)),
                  id_of<EntryId>(row.getColumn(1)),
                  id_of<SpaceId>(row.getColumn(2)),
                  id_of<VolumeId>(row.getColumn(3)),
                  size_of(row.getColumn(4)),
                  size_of(row.getColumn(5)),
                  size_of(row.getColumn(6)),
                  pieces_of(row.getColumn(7)),
                  {}};
      const bool has_clusters = grids_.at(file.volume).cluster_size > 0;
      if (!has_clusters || !claims_.contains(file.space) || file.pieces.empty()) continue;
      if (row.getColumn(8).getInt() == 0) {
        if (!goes_on(file, row.getColumn(9).getText())) continue;
        // Nobody knows where it breaks off: at its first gap, or anywhere.
        file.sound_to = file.pieces.size() > 1 ? file.pieces.front().length : 1;
      }
      broken_.push_back(std::move(file));
    }
  }

  // Whether a file that adds up where it was placed seems not to end there.
  bool goes_on(const Broken& file, std::string_view format) const {
    const Piece& last = file.pieces.back();
    const bool has_place =
        last.kind == Piece::Kind::range && total_length(file.pieces) == file.size;
    if (!has_place || content::notices_foreign_clusters(format)) return false;
    const Behind behind = behind_end(last, *spaces_.at(file.space));
    return behind == Behind::more || behind == Behind::blank;
  }

  void load_held() {
    SQLite::Statement row(db_, R"sql(
      SELECT v.space, e.volume, s.pieces
      FROM streams s JOIN entries e ON e.id=s.entry JOIN volumes v ON v.id=e.volume
      WHERE e.state<>'live' AND e.merged_into IS NULL AND s.rating<>'gone'
        AND length(s.pieces)>0)sql");
    while (row.executeStep()) {
      const ClusterGrid& grid = grids_.at(id_of<VolumeId>(row.getColumn(1)));
      if (grid.cluster_size == 0) continue;
      for (const Piece& piece : pieces_of(row.getColumn(2))) {
        if (piece.kind != Piece::Kind::range || piece.offset < grid.heap_offset) continue;
        held_[id_of<SpaceId>(row.getColumn(0))].push_back(
            {piece.offset, grid.rounded_up(piece.offset + piece.length) - piece.offset});
      }
    }
    for (auto& [space, held] : held_) {
      std::ranges::sort(held, {}, [](const ByteRange& r) { return std::pair(r.offset, r.length); });
      held.erase(std::unique(held.begin(), held.end()), held.end());
    }
  }

  // What begins nearest to a place in what was taken for a file's place, up to byte `end`.
  static std::vector<Held::const_iterator> near(const Held& held, const Broken& file,
                                                uint64_t place, uint64_t end) {
    const auto middle = std::ranges::upper_bound(held, place, {}, &ByteRange::offset);
    std::vector<Held::const_iterator> found;
    auto before = middle;
    while (before != held.begin() && found.size() < kMostObstacles) {
      if ((--before)->offset <= file.first) break;
      found.push_back(before);
    }
    auto behind = middle;
    for (size_t n = 0; n < kMostObstacles && behind != held.end() && behind->offset < end; ++n) {
      found.push_back(behind++);
    }
    std::erase_if(found, [&](const auto& range) {
      return std::ranges::find(file.around, *range) != file.around.end();
    });
    std::ranges::stable_sort(found, {}, [&](const auto& range) {
      return range->offset > place ? range->offset - place : place - range->offset;
    });
    found.resize(std::min(found.size(), kMostObstacles));
    return found;
  }

  // What a file may have been written around: what begins in what was taken for its place, the
  // nearest to where it breaks off first, then to the end of the piece before that one. Some
  // formats notice a break where it is, some at the beginning of the part that does not add up,
  // some a little behind.
  std::vector<ByteRange> obstacles_of(const Broken& file) const {
    const auto others = held_.find(file.space);
    if (others == held_.end()) return {};
    const Held& held = others->second;
    const uint64_t end = place_behind(file.pieces, file.size);
    auto starts = near(held, file, place_behind(file.pieces, file.sound_to), end);
    uint64_t before = 0;  // bytes of the file
    for (const Piece& piece : file.pieces) {
      if (before + piece.length >= file.sound_to) break;
      before += piece.length;
    }
    if (before > 0) {
      for (const auto& range : near(held, file, place_behind(file.pieces, before), end)) {
        if (std::ranges::find(starts, range) == starts.end()) starts.push_back(range);
      }
    }
    std::vector<ByteRange> obstacles;
    for (const auto& range : starts) {
      obstacles.push_back(*range);
      // And with what lies right behind it, up to the next gap.
      ByteRange joined = *range;
      auto more = std::next(range);
      for (size_t n = 0; n < kMostJoined && more != held.end() && more->offset <= joined.end();
           ++n, ++more) {
        joined.length = std::max(joined.end(), more->end()) - joined.offset;
      }
      if (joined != *range) obstacles.push_back(joined);
    }
    return obstacles;
  }

  Placed place(const Broken& file, const std::vector<ByteRange>& around) const {
    const ClaimMap& living = claims_.at(file.space);
    return place_contiguously(file.first, file.size, grids_.at(file.volume), [&](uint64_t at) {
      Obstacle nearest;
      const auto consider = [&](const ByteRange& range) {
        if (range.end() <= at) return;
        const bool nearer = nearest.range.length == 0 || range.offset < nearest.range.offset;
        if (nearer) nearest = {range, true};
      };
      if (const Claim* claim = living.at_or_after(at)) consider(claim->range);
      for (const ByteRange& range : around) consider(range);
      return nearest;
    });
  }

  // All ways to place those files, from number `from` on, that another round may help.
  std::vector<Trial> trials_of_round(size_t from, size_t end) {
    std::vector<Trial> trials;
    for (size_t i = from; i < end; ++i) {
      Broken& file = broken_[i];
      if (!file.open) continue;
      file.open = false;
      std::vector<std::vector<ByteRange>> ways;
      // First around nothing but what is there now.
      if (file.around.empty()) ways.emplace_back();
      for (const ByteRange& obstacle : obstacles_of(file)) {
        ways.push_back(file.around);
        ways.back().push_back(obstacle);
      }
      for (std::vector<ByteRange>& around : ways) {
        Trial trial{i, place(file, around), std::move(around), {}};
        const bool whole = std::ranges::all_of(
            trial.placed.pieces, [](const Piece& p) { return p.kind == Piece::Kind::range; });
        if (!whole || trial.placed.pieces == file.pieces) continue;
        if (file.size > may_read_) {
          ++result_.left_out;
          break;
        }
        may_read_ -= file.size;
        ++file.tried;
        trials.push_back(std::move(trial));
      }
    }
    return trials;
  }

  void examine(std::vector<Trial>& trials) {
    size_t given = 0;
    const auto next = [&]() -> std::optional<checking::Task> {
      if (given == trials.size()) return std::nullopt;
      const Trial& trial = trials[given];
      const Broken& file = broken_[trial.file];
      const SourcePtr source = spaces_.at(file.space);
      return checking::Task{given++, file.size,
                            [source, &trial](uint64_t at, std::span<std::byte> out) {
                              return read_pieces(*source, trial.placed.pieces, at, out);
                            }};
    };
    box_.run(
        next,
        [&](uint64_t i, const checking::Examined& found) {
          Trial& trial = trials[i];
          const Broken& file = broken_[trial.file];
          trial.found = found;
          trial.fit =
              fit_of(trial, file, grids_.at(file.volume).cluster_size, *spaces_.at(file.space));
        },
        [&] { return budget_.is_stopped(); });
  }

  // Keeps what fits, where foreign clusters may go unnoticed only if nothing else does; what goes
  // on for longer than before is gone on with.
  void settle(std::vector<Trial>& trials) {
    SQLite::Transaction transaction(db_);
    struct Best {
      const Trial* trial = nullptr;
      bool only = true;  // no other fits as well
    };
    std::unordered_map<size_t, Best> best;
    for (const Trial& trial : trials) {
      Best& known = best[trial.file];
      if (known.trial == nullptr || rank(trial) > rank(*known.trial)) {
        known = {&trial};
      } else if (trial.fit == known.trial->fit &&
                 trial.placed.pieces != known.trial->placed.pieces) {
        known.only = false;
      }
    }
    for (const auto& [number, found] : best) {
      const Trial* trial = found.trial;
      Broken& file = broken_[number];
      const uint64_t cluster = grids_.at(file.volume).cluster_size;
      if (trial->fit != Fit::none) {
        if (trial->fit == Fit::vouched || found.only) store(file, *trial);
      } else if (trial->found.level == content::Level::broken &&
                 trial->found.sound_to >= file.sound_to + cluster) {
        file.sound_to = trial->found.sound_to;
        file.pieces = trial->placed.pieces;
        file.around = trial->around;
        file.open = true;
      }
    }
    transaction.commit();
  }

  static std::pair<Fit, uint64_t> rank(const Trial& trial) {
    return {trial.fit, trial.found.sound_to};
  }

  void store(const Broken& file, const Trial& trial) {
    keep_found_place(db_,
                     {file.stream, file.entry, file.size, trial.placed.pieces, trial.placed.gaps,
                      "placed-by-content", file.tried},
                     trial.found);
    ++result_.files;
  }

  SQLite::Database& db_;
  Spaces& spaces_;
  const Claims& claims_;
  const Budget& budget_;
  const Grids grids_;
  uint64_t may_read_;  // bytes
  checking::Box box_;
  std::vector<Broken> broken_;
  std::unordered_map<SpaceId, Held> held_;
  PlacedByContent result_;
};

}  // namespace

PlacedByContent place_by_content(Shelf& shelf, Spaces& spaces, const Claims& claims,
                                 const Budget& budget) {
  return ByContent(shelf, spaces, claims, budget).run();
}

}  // namespace undershelf
