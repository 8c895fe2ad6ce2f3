#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <bit>
#include <climits>
#include <map>

#include "content/types.h"
#include "fs/chained/assembler.h"
#include "fs/exfat/entries.h"
#include "fs/exfat/folder.h"
#include "fs/exfat/reader.h"
#include "fs/exfat/unplaced.h"
#include "fs/systems.h"
#include "fs/trace_kinds.h"
#include "model/text.h"

namespace undershelf::exfat {
namespace {

using chained::kFirstCluster;

constexpr size_t kMostSets = 200'000;     // kept for voting
constexpr size_t kCandidates = 64;        // layouts weighed by content
constexpr uint64_t kMostPart = 16 << 20;  // bytes read at once of sectors that follow each other

struct System : chained::SystemOf<BootSector, Geometry, Found, find_geometry, make_reader,
                                  kExfatRules, 0xFFFFFFF5> {
  static constexpr std::string_view kFamily = "exfat";
  static std::optional<Geometry> from_header(const BootSector& boot) {
    std::optional<Geometry> geometry = from_fields(boot);
    if (geometry) geometry->notes.clear();
    return geometry;
  }
};

// What one entry set tells.
struct Told {
  uint32_t first = 0;  // cluster
  bool folder = false;
  const Format* format = nullptr;  // null if its name tells none
  uint64_t unit() const { return first - kFirstCluster; }
};

// Entry sets prove themselves, but name neither their own place nor their folder's. Folders are
// named by number in one place and begin in another: the layout with which most of both agree is
// right, and files must begin there as their names say. Boot sectors, the root's own entries and
// the FAT's beginning give the rest where they are left.
class Assembler : public chained::Assembler<System> {
 public:
  explicit Assembler(const Scene& scene) : chained::Assembler<System>(scene) {
    for (const Trace& trace : scene.of_kind(kSets)) {
      // Sectors that follow each other may in part be held by what is there now.
      for (uint64_t at = trace.offset; at < trace.end(); at += kSweepStep) {
        if (scene.is_held({at, kSweepStep})) continue;
        const bool starts = at == trace.offset && trace.number == 1;
        if (!sectors_.empty() && !starts && sectors_.back().end() == at) {
          sectors_.back().length += kSweepStep;
        } else {
          sectors_.push_back({at, kSweepStep, kSets, starts ? 1U : 0U, 0});
        }
      }
    }
    read_sets();
  }

 private:
  void read_sets() {
    std::vector<DirectoryEntry> entries;
    const UpcaseTable upcase;
    for (const Trace& part : sectors_) {
      entries.resize(std::min(part.length, kMostPart) / sizeof(DirectoryEntry));
      scene_.source->read(part.offset, std::as_writable_bytes(std::span(entries)));
      for (const EntrySet& set : parse_folder(entries, upcase).sets) {
        if (!set.intact || told_.size() >= kMostSets) continue;
        Told told;
        told.first = set.stream.FirstCluster.value();
        told.folder = set.folder();
        const Format& format = format_by_name(to_utf8(set.name));
        if (!told.folder && !format.magic.empty()) told.format = &format;
        if (told.first >= kFirstCluster) told_.push_back(told);
      }
    }
  }

  std::vector<KnownFile> files() const {
    std::vector<KnownFile> found;
    for (const Told& told : told_) {
      if (told.format != nullptr) found.push_back({told.unit(), told.format});
    }
    return found;
  }

  // A folder that a set names begins at one of the places where folders begin.
  std::vector<Pin> pins() const {
    std::vector<uint64_t> units;
    for (const Told& told : told_) {
      if (told.folder) units.push_back(told.unit());
    }
    std::vector<uint64_t> places;
    for (const Trace& part : sectors_) {
      if (part.number == 1 && !explained_.contains(part.offset)) places.push_back(part.offset);
    }
    std::vector<Pin> found = content_pins(files(), scene_.contents);
    append_pairs(units, places, found);
    // Likewise up-case tables, which roots name.
    units.clear();
    places.clear();
    for (const Trace& root : scene_.free_of_kind(kRootEntries)) {
      units.push_back(root.other - kFirstCluster);
    }
    for (const Trace& table : scene_.free_of_kind(kUpcase)) places.push_back(table.offset);
    append_pairs(units, places, found);
    return found;
  }

  // Takes the layout that votes and content speak for most.
  bool take_next() override {
    constexpr size_t kClear = 3;  // votes beyond what chance gives
    const std::vector<Pin> all = pins();
    const size_t enough = layouts_.votes_needed(all.size());
    const std::vector<KnownFile> known = files();
    std::optional<VotedGrid> best;
    int most = INT_MIN;
    for (const VotedGrid& candidate : layouts_.candidates(all, kCandidates)) {
      // On the grid of a present volume an older one is told by its dates, and was looked for.
      const bool taken =
          std::ranges::find(present_grids_, candidate.grid) != present_grids_.end() ||
          std::ranges::any_of(drafts_,
                              [&](const Draft& draft) { return draft.grid == candidate.grid; });
      const int content = layouts_.content(candidate.grid, known);
      // Content that is another's by now says nothing against a layout that many folders speak for.
      const bool believed = content >= kLeastContent || candidate.votes >= enough + kClear ||
                            (candidate.votes >= enough && content >= 0);
      const int score = layouts_.worth(candidate.votes) + content;
      if (taken || !believed || score <= most) continue;
      best = candidate;
      most = score;
    }
    if (!best) return false;
    Draft draft;
    draft.grid = best->grid;
    draft.votes = best->votes;
    add(std::move(draft));
    return true;
  }

  // What a volume explains is no evidence for another one: folders that begin where it has them,
  // and files that begin there as their formats do.
  void explain(Draft& draft) override {
    std::array<std::byte, kSweepStep> head{};
    std::erase_if(told_, [&](const Told& told) {
      const uint64_t place = draft.grid.place_of(told.unit());
      if (told.folder && starts_at(place)) explained_.try_emplace(place, draft.grid);
      if (told.folder) return starts_at(place);
      const auto mark = told.format != nullptr ? mark_of(*told.format) : std::nullopt;
      return !mark || place >= scene_.source->size() ||
             (scene_.source->read(place, head).ok() && mark_at(head) == mark);
    });
  }

  bool starts_at(uint64_t place) const {
    const auto part = std::ranges::lower_bound(sectors_, place, {}, &Trace::offset);
    return part != sectors_.end() && part->offset == place;
  }

  void take_lives(Draft present, Draft former) override {
    present_grids_.push_back(former.grid);
    // A format that kept the layout: older folders lie on the same grid, and name each other.
    // Those of another layout, with larger clusters for one, may do so by chance.
    const std::vector<uint32_t> older = folders(former);
    if (!older.empty() && is_most_voted(former.grid)) take_former(std::move(former), older);
    if (!present.since || folders(present).empty()) return;
    // What is left of it tells of no other volume.
    explain(present);
    present_.push_back(std::move(present));
  }

  void take_former(Draft former, const std::vector<uint32_t>& older) {
    former.votes = static_cast<size_t>(std::ranges::count_if(told_, [&](const Told& told) {
      return told.folder && std::ranges::binary_search(older, told.first);
    }));
    if (former.votes > 0 || layouts_.content(former.grid, files()) > 0) add(std::move(former));
  }

  // Whether no other layout has more votes, and more than chance gives.
  bool is_most_voted(const Grid& grid) const {
    const std::vector<Pin> all = pins();
    size_t own = 0;
    size_t most = 0;
    for (const VotedGrid& candidate : layouts_.candidates(all, kCandidates)) {
      most = std::max(most, candidate.votes);
      if (candidate.grid == grid) own = candidate.votes;
    }
    return own == most || most < layouts_.votes_needed(all.size());
  }

  bool is_there(Draft& draft, const Geometry& geometry) override {
    draft.votes = static_cast<size_t>(std::ranges::count_if(told_, [&](const Told& told) {
      return told.folder && starts_at(draft.grid.place_of(told.unit()));
    }));
    const uint64_t root = draft.grid.place_of(geometry.root_cluster - kFirstCluster);
    return draft.votes > 0 ||
           std::ranges::any_of(scene_.of_kind(kRootEntries),
                               [&](const Trace& trace) { return trace.offset == root; });
  }

  // Clusters of the grid that hold sets, and before these nothing but entries.
  std::vector<uint32_t> folders(const Draft& draft) const {
    std::vector<uint32_t> found;
    for (const Trace& part : sectors_) {
      each_cluster(draft, part.range(), true, [&](uint32_t cluster, uint64_t place) {
        if (leads_to_sets(place, part) && belongs(draft, std::max(place, part.offset)) &&
            !is_anothers(draft, place)) {
          found.push_back(cluster);
        }
      });
    }
    make_set(found);
    return found;
  }

  // Whether another volume's folder that is named begins there.
  bool is_anothers(const Draft& draft, uint64_t place) const {
    const auto owner = explained_.find(place);
    return owner != explained_.end() && !(owner->second == draft.grid);
  }

  // Whether the cluster at `place` reads as a folder as far as to the first set that `part` has in
  // it: it may begin within a set that is cut, or with what is left of some.
  bool leads_to_sets(uint64_t place, const Trace& part) const {
    std::array<DirectoryEntry, kSweepStep / sizeof(DirectoryEntry)> entries;
    for (uint64_t at = place; at < part.offset; at += kSweepStep) {
      const bool whole =
          read_at(*scene_.source, at, entries) &&
          std::ranges::all_of(entries, [](const auto& e) { return is_known_type(e.EntryType); });
      if (!whole) return false;
    }
    return true;
  }

  // Of the first set that begins there or soon behind.
  std::optional<Time> time_at(uint64_t place) const override {
    std::array<DirectoryEntry, kMostSetEntries> entries{};
    read_at(*scene_.source, place, entries);
    const auto found = std::ranges::find_if(
        entries, [](const DirectoryEntry& entry) { return (entry.EntryType | kInUse) == kFile; });
    if (found == entries.end()) return std::nullopt;
    return created_time(std::bit_cast<FileEntry>(*found), scene_.options.zone);
  }

  // The clusters of folders, which no name without a place can lie in.
  std::vector<uint32_t> placed_folders(const Draft& draft) {
    std::vector<uint32_t> found = folders(draft);
    for (const uint32_t cluster : found) {
      placed_.push_back({draft.grid.place_of(cluster - kFirstCluster), draft.grid.unit_size});
    }
    return found;
  }

  std::optional<Found> found_of_present(const Draft& draft) override {
    return Found{placed_folders(draft), false};
  }

  std::optional<Found> found_of(const Draft& draft, Geometry& geometry, bool) override {
    Found found{placed_folders(draft), scene_.current_at(draft.grid.start) != nullptr};
    if (found.folders.empty() && geometry.root_cluster == 0) return std::nullopt;
    // A root that is written over is none.
    const uint64_t root = draft.volume_start + geometry.offset_of(geometry.root_cluster);
    if (geometry.root_cluster != 0 && found.former && scene_.is_held({root, 512})) {
      geometry.root_cluster = 0;
    }
    return found;
  }

  void infer(const Draft& draft, Geometry& geometry) override {
    const Grid& grid = draft.grid;
    const uint64_t end = end_of(draft);
    for (const Trace& root : scene_.free_of_kind(kRootEntries)) {
      const bool aligned =
          root.offset >= grid.start && (root.offset - grid.start) % grid.unit_size == 0;
      if (!aligned || root.offset >= end) continue;
      geometry.root_cluster = geometry.cluster_at(root.offset - draft.volume_start);
      break;
    }
    for (const Trace& fat : scene_.free_of_kind(kFat)) {
      if (fat.offset < draft.volume_start || fat.offset >= grid.start) continue;
      geometry.fat_offset = fat.offset - draft.volume_start;
      geometry.fat_size = geometry.heap_offset - geometry.fat_offset;
    }
  }

  std::string note(size_t votes) const override {
    return fmt::format(
        "No boot sector is left of it. {} folder{} found where others name them tell its layout.",
        votes, votes == 1 ? "" : "s");
  }

  // A name is not lost because nothing tells where its file lay: folders that no layout explains.
  void take_rest() override {
    std::ranges::sort(placed_, {}, &ByteRange::offset);
    std::map<uint64_t, std::vector<ByteRange>> by_start;  // by where their volume may have begun
    auto placed = placed_.begin();
    for (const Trace& part : sectors_) {
      uint64_t at = part.offset;
      // What lies side by side is taken for one folder.
      const auto keep_until = [&](uint64_t end) {
        if (at >= end) return;
        std::vector<ByteRange>& parts = by_start[scene_.start_before(at + 1)];
        if (!parts.empty() && parts.back().end() == at) {
          parts.back().length += end - at;
        } else {
          parts.push_back({at, end - at});
        }
      };
      while (placed != placed_.end() && placed->end() <= part.offset) ++placed;
      for (auto next = placed; next != placed_.end() && next->offset < part.end(); ++next) {
        keep_until(std::min(next->offset, part.end()));
        at = std::max(at, next->end());
      }
      keep_until(part.end());
    }
    for (const auto& [start, parts] : by_start) {
      const ByteRange where{start, scene_.end_around(start) - start};
      assembled_.push_back({make_unplaced(scene_.source, where, parts, scene_.options), false});
    }
  }

  std::vector<Trace> sectors_;  // with sets, free now
  std::vector<Told> told_;
  std::map<uint64_t, Grid> explained_;  // where folders begin, and by which grid they are named
  std::vector<ByteRange> placed_;       // clusters that some volume has for a folder's
  std::vector<Grid> present_grids_;     // of volumes that are there now
};

}  // namespace
}  // namespace undershelf::exfat

std::vector<undershelf::Assembled> undershelf::assemble(Exfat, const Scene& scene) {
  return exfat::Assembler(scene).run();
}
