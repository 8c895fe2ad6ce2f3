// Files in several pieces, put together by what their own structure says must follow.
#include <algorithm>
#include <vector>

#include "checking/examine.h"
#include "content/jpeg_scan.h"
#include "content/walk.h"

namespace undershelf::checking {
namespace {

using content::Bytes;
using content::Level;

constexpr size_t kMostGaps = 16'384;  // clusters that a gap may have
constexpr size_t kMostTries = 768;    // ways to cut that are looked at to the end, a file

// Others, without what is cut out.
class Joined : public Bytes {
 public:
  explicit Joined(Bytes& all) : all_(all) {}
  void cut(const Cut& cut) { cuts_.push_back(cut); }
  void undo() { cuts_.pop_back(); }
  const std::vector<Cut>& cuts() const { return cuts_; }

  uint64_t size() const override {
    uint64_t out = 0;
    for (const Cut& cut : cuts_) out += cut.gap;
    return all_.size() - std::min(out, all_.size());
  }
  std::span<const std::byte> at(uint64_t offset, size_t length) override {
    const auto part = up_to_cut(offset, length);
    if (part.size() == length || !is_cut_at(offset + part.size())) return part;
    joined_.assign(part.begin(), part.end());
    while (joined_.size() < std::min(length, kMostAtOnce)) {
      const auto more = up_to_cut(offset + joined_.size(), length - joined_.size());
      if (more.empty()) break;
      joined_.insert(joined_.end(), more.begin(), more.end());
    }
    return joined_;
  }

 private:
  bool is_cut_at(uint64_t offset) const {
    return std::ranges::any_of(cuts_, [&](const Cut& cut) { return cut.at == offset; });
  }

  // As `at`, no further than the next cut.
  std::span<const std::byte> up_to_cut(uint64_t offset, size_t length) {
    uint64_t shift = 0;
    uint64_t until = size();
    for (const Cut& cut : cuts_) {
      if (offset < cut.at) {
        until = std::min(until, cut.at);
        break;
      }
      shift += cut.gap;
    }
    if (offset >= until) return {};
    return all_.at(offset + shift, static_cast<size_t>(std::min<uint64_t>(length, until - offset)));
  }

  Bytes& all_;
  std::vector<Cut> cuts_;  // in order
  std::vector<std::byte> joined_;
};

// Whether all of it is there, and nothing that is another's would go unnoticed.
bool is_certain(const Examined& found) {
  return found.end > 0 && (found.level == Level::verified || found.notices_foreign_clusters());
}
bool adds_up(const Examined& found) { return found.end > 0 && found.level >= Level::consistent; }

class Rejoiner {
 public:
  Rejoiner(Bytes& bytes, uint64_t cluster)
      : cluster_(cluster), joined_(bytes), recognised_(content::recognise(bytes)) {}

  Examined run() {
    const Examined begun = examine_start(joined_);
    Examined found = begun;
    for (size_t n = 0; n < kMostCuts; ++n) {
      const auto broken = breaks_at(found);
      if (!broken) break;
      const auto next = go_on(*broken);
      if (!next) break;
      joined_.cut(next->cut);
      found = next->found;
    }
    if (!adds_up(found)) return begun;
    std::ranges::copy(joined_.cuts(), found.cuts.begin());
    return found;
  }

 private:
  struct Way {
    Cut cut;
    Examined found;
  };

  // The byte at which the part begins that does not hold; nothing if all do. Chains of parts end
  // where no further one follows, which may be where what is not their own begins.
  std::optional<uint64_t> breaks_at(const Examined& found) {
    if (found.level == Level::broken) return found.sound_to;
    if (found.end == 0 || content::tells_its_end(recognised_.format)) return std::nullopt;
    const content::Walk walk = recognised_.family->walk(joined_, recognised_.format);
    return walk.level == Level::broken ? std::optional(walk.sound_to) : std::nullopt;
  }

  // Where what breaks off goes on; nothing if it is nowhere.
  std::optional<Way> go_on(uint64_t at) {
    // Text before zeros, which is no text as a whole.
    if (recognised_.family == nullptr) return std::nullopt;
    if (recognised_.format == "jpeg") return go_on_in_scan();
    if (recognised_.family->part_holds != nullptr) {
      auto way = go_on_where_it_holds(at, false);
      return way ? way : go_on_where_it_holds(at, true);
    }
    if (recognised_.family->begins_part == nullptr) return std::nullopt;
    const auto end = recognised_.family->part_end(joined_, at);
    if (!end) return go_on_anywhere(at);
    for (uint64_t gap = cluster_; gap <= most_gap(*end) && tries_ < kMostTries; gap += cluster_) {
      if (!recognised_.family->begins_part(joined_, *end + gap, at)) continue;
      if (auto way = cut_between(at, *end, gap)) return way;
    }
    return std::nullopt;
  }

  uint64_t most_gap(uint64_t behind) const {
    return std::min(kMostGaps * cluster_, joined_.size() - std::min(behind, joined_.size()));
  }

  Way look(const Cut& cut) {
    ++tries_;
    joined_.cut(cut);
    Way way{cut, examine_start(joined_)};
    joined_.undo();
    return way;
  }

  // Which cluster of a part is the first behind a gap whose length is known. Where a wrong one may
  // go unnoticed, there must be no second that will do.
  std::optional<Way> cut_between(uint64_t at, uint64_t end, uint64_t gap) {
    const uint64_t first = std::max(at / cluster_ * cluster_, last_cut() + cluster_);
    const uint64_t last = (end + 7) / cluster_ * cluster_;
    if (first > last || first == 0) return std::nullopt;
    // All of it before the gap: where that breaks off is near the cut, in formats that notice.
    Way way = look({last, gap});
    const uint64_t near = std::clamp(way.found.sound_to / cluster_ * cluster_, first, last);
    std::optional<Way> good;
    size_t will_do = 0;
    const auto consider = [&](const Way& one) {
      const uint64_t least = content::tells_its_end(recognised_.format) ? end : end + 1;
      if (std::max(one.found.sound_to, one.found.end) < least) return false;
      if (!holds_picture(one.cut, at)) return false;
      const bool goes_on = one.found.level == Level::broken &&
                           one.found.sound_to >= end + cluster_ && (!good || !has_sums());
      const bool sure = is_certain(one.found) && has_sums();
      if (sure) will_do = 0;
      if (adds_up(one.found) || goes_on) {
        good = one;
        ++will_do;
      }
      // It is this one, or there are two.
      return sure || (has_sums() && adds_up(one.found) && will_do > 1);
    };
    const auto chosen = [&] { return will_do == 1 ? good : std::nullopt; };
    if (consider(way)) return chosen();
    // With all of the part before the gap, nothing but the next one's head says where it goes on.
    if (last >= end && good && adds_up(good->found) && has_sums()) return std::nullopt;
    for (uint64_t step = 0; near >= first + step || near + step < last; step += cluster_) {
      if (tries_ >= kMostTries) break;
      const uint64_t behind = near + step, before = near - step;
      if (near >= first + step && before < last && consider(look({before, gap}))) return chosen();
      if (step > 0 && behind < last && consider(look({behind, gap}))) return chosen();
    }
    return chosen();
  }

  // Whether parts tell that they hold: others go by their lengths or counters alone, and which
  // cluster of one is the first behind a gap shows nowhere.
  bool has_sums() const {
    return recognised_.format != "avi" && content::tells_its_end(recognised_.format);
  }

  // Whether the part at `at`, once it is cut so, is sound if it is a picture, such as frames of
  // AVI.
  bool holds_picture(const Cut& cut, uint64_t at) {
    constexpr uint64_t kHead = 8;  // bytes
    if (recognised_.format != "avi") return true;
    joined_.cut(cut);
    bool holds = true;
    if (joined_.has(at + kHead, "\xFF\xD8")) {
      content::PartOfBytes frame(joined_, at + kHead, joined_.le32(at + 4));
      holds = adds_up(examine_start(frame));
    }
    joined_.undo();
    return holds;
  }

  // Where nothing says how long the part that breaks is: near the break, and not far on.
  std::optional<Way> go_on_anywhere(uint64_t at) {
    constexpr uint64_t kMostGapsAnywhere = 512;
    const uint64_t near = at / cluster_ * cluster_;
    for (const uint64_t cut : {near, near + cluster_, near + 2 * cluster_, near - cluster_}) {
      if (cut <= last_cut() || cut > joined_.size()) continue;
      const uint64_t most = std::min(most_gap(cut), kMostGapsAnywhere * cluster_);
      for (uint64_t gap = cluster_; gap <= most; gap += cluster_) {
        Way way = look({cut, gap});
        if (adds_up(way.found)) return way;
      }
    }
    return std::nullopt;
  }

  // Where the part that breaks tells whether it holds: it is cut in its first clusters.
  std::optional<Way> go_on_where_it_holds(uint64_t at, bool last) {
    constexpr uint64_t kMostClusters = 8;  // of such a part
    constexpr uint64_t kMostGapsHere = 2048;
    const uint64_t first = std::max(at / cluster_ * cluster_, last_cut() + cluster_);
    for (uint64_t cut = first; cut < first + kMostClusters * cluster_; cut += cluster_) {
      if (cut == 0 || cut > joined_.size()) continue;
      const uint64_t most = std::min(most_gap(cut), kMostGapsHere * cluster_);
      for (uint64_t gap = cluster_; gap <= most && tries_ < kMostTries; gap += cluster_) {
        if (!holds_without({cut, gap}, at, last)) continue;
        Way way = look({cut, gap});
        if (adds_up(way.found) || way.found.sound_to > at) return way;
      }
    }
    return std::nullopt;
  }

  bool holds_without(const Cut& cut, uint64_t at, bool last) {
    joined_.cut(cut);
    const bool holds = recognised_.family->part_holds(joined_, at, last);
    joined_.undo();
    return holds;
  }

  uint64_t last_cut() const { return joined_.cuts().empty() ? 0 : joined_.cuts().back().at; }

  std::optional<Way> go_on_in_scan() {
    const auto cut = content::find_jpeg_cut(joined_, cluster_, last_cut(), kMostGaps);
    if (!cut) return std::nullopt;
    return look({cut->at, cut->gap});
  }

  const uint64_t cluster_;  // bytes
  Joined joined_;
  const content::Recognised recognised_;
  size_t tries_ = 0;
};

}  // namespace

Examined rejoin(Bytes& bytes, uint64_t cluster) { return Rejoiner(bytes, cluster).run(); }

}  // namespace undershelf::checking
