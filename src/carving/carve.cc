#include "carving/carve.h"

#include <algorithm>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <thread>
#include <unordered_map>

#include "access/spaces.h"
#include "carving/cut_short.h"
#include "carving/ends.h"
#include "carving/find.h"
#include "carving/ground.h"
#include "carving/scene.h"
#include "carving/store.h"
#include "carving/taken.h"
#include "checking/box.h"
#include "model/budget.h"
#include "placing/claims.h"
#include "shelf/shelf.h"
#include "source/source.h"

namespace undershelf::carving {
namespace {

using checking::Examined;
using content::Level;

// What may be read in all: so many times the source, and so many bytes, which take seconds.
constexpr uint64_t kReadings = 8, kAlways = uint64_t{4} << 30;
constexpr uint64_t kOneStart = 16 << 20;  // bytes that one start may cost before others had theirs
constexpr uint64_t kSeeking = 256 << 20;  // likewise, in which it is sought in pieces
constexpr uint64_t kLooksAtChain = 8;     // that one which is sought on may cost besides
constexpr int kRounds = 4;                // in which what was found displaces what is around it

// What one look at a start reads from, while it goes on.
struct Look {
  size_t start = 0;  // number
  std::shared_ptr<FreeBytes> bytes;
  uint64_t read = 0, most = 0;  // bytes
  bool was_cut = false;
};

class Carver {
 public:
  Carver(Shelf& shelf, Spaces& spaces, const Claims& claims, const CarveOptions& options,
         const Budget& budget)
      : shelf_(shelf),
        source_(spaces.at(SpaceId::source)),
        options_(options),
        budget_(budget),
        may_read_(std::min(source_->size(), UINT64_MAX / (2 * kReadings)) * kReadings + kAlways),
        scene_(load_scene(shelf, claims, source_->size())),
        ground_(shelf, scene_),
        seen_ends_(seen_ends(shelf, *source_)) {}

  Carved run() {
    try {
      seek();
    } catch (const Stopped&) {
      keep(false);  // what was found counts
      throw;
    }
    const uint64_t files = keep(true);
    const auto left_out = std::ranges::count_if(scene_.starts, [&](const Start& start) {
      return start.was_cut && !ground_.is_covered(start.offset);
    });
    return {files, static_cast<uint64_t>(left_out)};
  }

 private:
  void seek() {
    for (int n = 0; n < kRounds; ++n) {
      settle_ground(Parts::all);
      look_at_starts(checking::examine_start, kOneStart);
      look_again_at_what_was_cut();
      settle_finds();
      if (!reopen_near_finds()) break;
    }
    seek_pieces();
  }

  // `all`: nothing was left out. Returns how many entries there are now.
  uint64_t keep(bool all) {
    settle_finds();
    constexpr uint64_t kWhenStopped = 64 << 20;
    add_partly_sound(all ? may_read_ : std::min(may_read_, kWhenStopped));
    drop_copies(finds_, scene_.contents);
    return store(shelf_, finds_, all);
  }

  // What goes on elsewhere is no find, and what lies in its supposed place may be one.
  void settle_finds() {
    for (auto& find : take_what_goes_on(finds_, seen_ends_)) {
      if (!options_.unverified) continue;
      find->goes_on = true;
      find->found.level = Level::broken;
      find->found.sound_to = std::min(find->length, ground_.grids().cluster_at(find->start));
      find->found.why = {"It goes on behind where it should end: a part of it lies elsewhere."};
      partly_sound_[find->start] = std::move(find);
    }
    settle(finds_);
  }

  void settle_ground(Parts parts) {
    ++round_;
    ground_.settle(finds_, parts);
  }

  // What lies in several pieces, with what is no find between them. The more is found, the less is
  // left that lies in between.
  void seek_pieces() {
    for (int round = 0; round < kRounds; ++round) {
      std::set<uint64_t> clusters;
      settle_ground(Parts::all);
      load_chains();
      if (!reopen_all()) return;
      for (const Start& start : scene_.starts) {
        if (start.is_open) clusters.insert(ground_.grids().cluster_at(start.offset));
      }
      const size_t before = finds_.size();
      for (const uint64_t cluster : clusters) {
        const auto rejoin = [cluster](content::Bytes& bytes) {
          return checking::rejoin(bytes, cluster);
        };
        look_at_starts(rejoin, kSeeking, cluster);
      }
      settle_finds();
      if (finds_.size() <= before) return;
    }
  }

  // What may go on, to the end of its last cluster. A piece ends where a cluster does, behind which
  // its last packet reaches a little, or where its rest was taken for another chain; what ends
  // further inside a cluster ended by itself.
  void load_chains() {
    constexpr uint64_t kLongestPacket = 2352;  // bytes; but for those of no camera
    chains_.clear();
    std::set<uint64_t> starts;
    for (const auto& find : finds_) {
      if (may_go_on(*find)) starts.insert(find->start);
    }
    for (const auto& find : finds_) {
      if (!starts.contains(find->start)) continue;
      const Piece& last = find->pieces.back();
      const uint64_t end = last.offset + last.length;
      const uint64_t rest = ground_.grids().rounded_up(end) - end;
      const bool is_inside = rest > 0 && ground_.grids().cluster_at(end) - rest > kLongestPacket;
      if (is_inside && !starts.contains(end)) continue;
      Pieces& own = chains_[find->start] = find->pieces;
      own.back().length += rest;
    }
  }

  using Examination = std::function<Examined(content::Bytes&)>;
  // `cluster`: if given, only at starts where clusters are that large.
  void look_at_starts(const Examination& examination, uint64_t most, uint64_t cluster = 0) {
    checking::Box box(std::max(1U, std::thread::hardware_concurrency()), examination);
    std::unordered_map<uint64_t, Look> looks;
    size_t next_start = 0;
    const auto next = [&]() -> std::optional<checking::Task> {
      for (; next_start < scene_.starts.size(); ++next_start) {
        Start& start = scene_.starts[next_start];
        if (!start.is_open || ground_.is_covered(start.offset)) continue;
        // What is sound and another's does not begin there too.
        if (ground_.taken().contains(start.offset) && !chains_.contains(start.offset)) continue;
        if (cluster != 0 && ground_.grids().cluster_at(start.offset) != cluster) continue;
        if (may_read_ == 0) {
          start.is_open = false;
          start.was_cut = true;
          continue;
        }
        options_.progress(next_start, scene_.starts.size());
        return look(next_start++, std::min(most, may_read_), looks);
      }
      return std::nullopt;
    };
    box.run(
        next,
        [&](uint64_t number, const Examined& found) {
          take_answer(looks.at(number), found);
          looks.erase(number);
        },
        [&] { return budget_.is_stopped(); });
    if (budget_.is_stopped()) throw Stopped{};
  }

  checking::Task look(size_t number, uint64_t most, std::unordered_map<uint64_t, Look>& looks) {
    Look& look = looks[number];
    const uint64_t start = scene_.starts[number].offset;
    look.start = number;
    look.most = most;
    if (const auto chain = chains_.find(start); chain != chains_.end()) {
      const Pieces& own = chain->second;
      look.most = std::min(most + kLooksAtChain * total_length(own), may_read_);
      look.bytes =
          std::make_shared<FreeBytes>(*source_, ground_.taken_for_chains(), own,
                                      own.back().offset + own.back().length, source_->size());
    } else {
      look.bytes = std::make_shared<FreeBytes>(*source_, ground_.taken(), start, source_->size());
    }
    return {number, look.bytes->size(), [this, &look](uint64_t at, std::span<std::byte> out) {
              if (look.read + out.size() > look.most || out.size() > may_read_) {
                look.was_cut = true;
                return size_t{0};
              }
              look.read += out.size();
              may_read_ -= out.size();
              return look.bytes->read(at, out);
            }};
  }

  void take_answer(Look& look, const Examined& found) {
    Start& start = scene_.starts[look.start];
    start.is_open = false;
    start.was_cut = look.was_cut && !chains_.contains(start.offset);
    start.breaks_at = look.bytes->place_of(found.sound_to);
    start.breaks_as =
        found.level == Level::broken ? content::known_format(found.format.data()) : "";
    const bool adds_up = found.end > 0 && found.level >= Level::consistent;
    if (look.was_cut || !is_wanted(found)) return;
    const uint64_t length = adds_up ? found.end : std::min(found.sound_to, look.bytes->size());
    if (length == 0) return;
    const bool is_rest = parts_begin_alike(found.format.data()) &&
                         ground_.grids().rounded_up(start.offset) != start.offset;
    if (is_rest && !start.named) return;
    auto find = std::make_unique<Find>(start.offset, length, round_, found);
    for (const Start& other : starts_at(start.offset)) {
      if (!adds_up || !other.named) continue;
      // The part of it that is known to be sound is no file of its own.
      const uint64_t known_to = other.named->sound_to + other.named->cluster;
      if (!content::tells_its_end(found.format.data()) && found.end < known_to) return;
      if (!is_whole(found, *other.named)) continue;
      find->named = other.named;
      find->length = other.named->size;
      if (found.end != find->length) find->found.forget_hash();  // it is of fewer bytes
      break;
    }
    place(*look.bytes, *find);
    if (find->pieces.empty()) return;  // it ends behind the medium
    find->behind = behind_end(find->pieces.back(), *source_);
    const bool is_blank_at_end = adds_up && !find->named && ends_blank(*find, *look.bytes);
    if (is_blank_at_end) {
      find->found.level = Level::broken;
      find->found.sound_to = find->length;
      find->found.why = {"What follows is blank."};
    }
    if (!adds_up || is_blank_at_end) {
      const bool may_be = may_be_cut_short(find->found, look.bytes->size());
      if (!options_.unverified && !may_be) return;
      auto& known = partly_sound_[start.offset];
      if (known == nullptr || known->length < length) known = std::move(find);
      return;
    }
    if (!seems_to_go_on(*find)) ground_.cover(*find);
    finds_.push_back(std::move(find));
  }

  // Several lost files may have begun at the same place.
  std::span<const Start> starts_at(uint64_t offset) const {
    const auto& starts = scene_.starts;
    const auto first = std::ranges::lower_bound(starts, offset, {}, &Start::offset);
    const auto last = std::ranges::upper_bound(starts, offset, {}, &Start::offset);
    return {first, last};
  }

  // Whether what was found is all of the file: some formats stand a few bytes behind their end.
  static bool is_whole(const Examined& found, const Named& named) {
    const bool notices = found.level == Level::verified || found.notices_foreign_clusters();
    if (found.end == named.size) return true;
    return notices && found.end < named.size && named.size - found.end < named.cluster;
  }

  static void place(FreeBytes& bytes, Find& find) {
    uint64_t at = 0, left_out = 0;
    for (const checking::Cut& cut : find.found.cuts) {
      if (cut.at == 0 || cut.at >= find.length) break;
      bytes.add_pieces(at + left_out, cut.at + left_out, find.pieces);
      at = cut.at;
      left_out += cut.gap;
    }
    bytes.add_pieces(at + left_out, find.length + left_out, find.pieces);
  }

  // Of what is not sound to its end, what lies outside of all that is, has no name, and is cut
  // short. `most`: bytes that may be read for it.
  void add_partly_sound(uint64_t most) {
    settle_ground(Parts::of_recordings);
    std::vector<uint64_t> recordings;
    for (const auto& [offset, find] : partly_sound_) {
      if (find->found.part_end == content::kNeverWritten) recordings.push_back(offset);
    }
    recordings.push_back(source_->size());
    for (auto& [offset, find] : partly_sound_) {
      const bool has_name = scene_.adding_up.contains(offset) ||
                            std::ranges::any_of(starts_at(offset),
                                                [](const Start& s) { return s.named.has_value(); });
      if (ground_.taken().contains(offset) || has_name) continue;
      find->set_length(ground_.taken().free_of(find->pieces));
      const uint64_t next = *std::ranges::upper_bound(recordings, offset);
      std::optional<uint64_t> there;
      if (!find->goes_on) {
        there = length_there(*find, {*source_, ground_.grids(), ground_.taken(), next}, most);
      }
      if (!there && !options_.unverified) continue;
      if (there) find->set_length(*there);
      finds_.push_back(std::move(find));
    }
    settle(finds_);
  }

  bool is_wanted(const Examined& found) const {
    const std::string_view type = content::type_of(found.format.data());
    if (type.empty()) return false;
    return options_.kinds.empty() ||
           std::ranges::find(options_.kinds, type) != options_.kinds.end();
  }

  void look_again_at_what_was_cut() {
    bool any = false;
    for (Start& start : scene_.starts) {
      start.is_open = start.was_cut && !ground_.is_covered(start.offset);
      any = any || start.is_open;
    }
    if (any) look_at_starts(checking::examine_start, UINT64_MAX);
  }

  // What broke off near something that was found in this round may go on behind it. False if there
  // is nothing to look at again.
  bool reopen_near_finds() {
    constexpr uint64_t kLate =
        1 << 20;  // bytes behind a break at which it is noticed at the latest
    const Taken all = held_by_finds(0), found = held_by_finds(round_);
    return reopen([&](const Start& start) {
      const ByteRange next = found.at_or_after(start.offset);
      return !all.contains(start.offset) && next.length > 0 &&
             next.offset <= start.breaks_at + kLate;
    });
  }

  bool reopen_all() {
    const Taken found = held_by_finds(0);
    return reopen([&](const Start& start) {
      return !found.contains(start.offset) || chains_.contains(start.offset);
    });
  }

  bool reopen(const std::function<bool(const Start&)>& is_to_be) {
    bool any = false;
    for (Start& start : scene_.starts) {
      start.is_open = start.breaks_at != 0 && is_to_be(start);
      any = any || start.is_open;
    }
    return any;
  }

  Taken held_by_finds(int since) const {
    Taken held;
    for (const auto& find : finds_) {
      if (find->round < since) continue;
      for (const Piece& piece : find->pieces) held.add({piece.offset, piece.length});
    }
    held.settle();
    return held;
  }

  Shelf& shelf_;
  const SourcePtr source_;
  const CarveOptions& options_;
  const Budget& budget_;
  uint64_t may_read_;  // bytes
  Scene scene_;
  Ground ground_;
  const SeenEnds seen_ends_;
  Finds finds_;
  std::map<uint64_t, Pieces> chains_;                       // that may go on, by where they begin
  std::map<uint64_t, std::unique_ptr<Find>> partly_sound_;  // by where they begin
  int round_ = 0;
};

}  // namespace

Carved carve(Shelf& shelf, Spaces& spaces, const Claims& claims, const CarveOptions& options,
             const Budget& budget) {
  return Carver(shelf, spaces, claims, options, budget).run();
}

}  // namespace undershelf::carving
