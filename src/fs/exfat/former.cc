#include "fs/exfat/former.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <bit>
#include <climits>
#include <map>

#include "content/types.h"
#include "fs/exfat/detector.h"
#include "fs/exfat/folder.h"
#include "fs/exfat/reader.h"
#include "fs/exfat/unplaced.h"
#include "fs/votes.h"
#include "model/text.h"

namespace undershelf::exfat {
namespace {

constexpr uint32_t kFirstCluster = 2;
constexpr size_t kMostVolumes = 64;
constexpr size_t kMostSets = 200'000;                             // kept for voting
constexpr size_t kCandidates = 64;                                // layouts weighed by content
constexpr uint64_t kLeastCluster = 512, kMostCluster = 32 << 20;  // bytes
constexpr uint64_t kMostPart = 16 << 20;  // bytes read at once of sectors that follow each other

// What one entry set tells.
struct Told {
  uint32_t first = 0;  // cluster
  bool folder = false;
  const Format* format = nullptr;  // null if its name tells none
};

struct Draft {
  Grid grid;  // its unit 0 is cluster 2
  std::optional<Geometry> geometry;
  uint64_t volume_start = 0;  // byte of the source
  size_t votes = 0;
  std::optional<uint32_t> before, since;  // sets made before that, or not before that, are its own
};

class Assembler {
 public:
  explicit Assembler(const Scene& scene) : scene_(scene) {
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

  std::vector<Assembled> run() {
    take_current();
    take_headers();
    while (drafts_.size() < kMostVolumes && vote()) {
    }
    for (Draft& draft : drafts_) finish(draft);
    keep_unplaced();
    return std::move(assembled_);
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
      if (!told.folder && told.format != nullptr) {
        found.push_back({told.first - kFirstCluster, told.format});
      }
    }
    return found;
  }

  // A folder that a set names begins at one of the places where folders begin.
  std::vector<Pin> pins() const {
    std::vector<uint64_t> units;
    for (const Told& told : told_) {
      if (told.folder) units.push_back(told.first - kFirstCluster);
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
    for (const Trace& root : scene_.of_kind(kRootEntries)) {
      if (!scene_.is_held(root.range())) units.push_back(root.other - kFirstCluster);
    }
    for (const Trace& table : scene_.of_kind(kUpcase)) {
      if (!scene_.is_held(table.range())) places.push_back(table.offset);
    }
    append_pairs(units, places, found);
    return found;
  }

  // Takes the layout that votes and content speak for most; false if none is left that they do.
  bool vote() {
    const std::vector<Pin> all = pins();
    const std::vector<VotedGrid> candidates =
        most_voted(all, kLeastCluster, kMostCluster, kCandidates);
    const size_t enough = votes_above_chance(all.size(), scene_.source->size());
    const std::vector<KnownFile> known = files();
    const VotedGrid* best = nullptr;
    int most = INT_MIN;
    for (const VotedGrid& candidate : candidates) {
      constexpr int kVote = 8;
      constexpr int kLeastContent = 24;  // where votes alone may be chance
      constexpr size_t kClear = 3;       // votes beyond what chance gives
      const bool taken = std::ranges::any_of(
          drafts_, [&](const Draft& draft) { return draft.grid == candidate.grid; });
      const int content = score_by_content(*scene_.source, candidate.grid, known);
      // Content that is another's by now says nothing against a layout that many folders speak for.
      const bool believed = content >= kLeastContent || candidate.votes >= enough + kClear ||
                            (candidate.votes >= enough && content >= 0);
      const int score = kVote * static_cast<int>(std::min<size_t>(candidate.votes, 1000)) + content;
      if (!taken && believed && score > most) {
        best = &candidate;
        most = score;
      }
    }
    if (best == nullptr) return false;
    Draft draft;
    draft.grid = best->grid;
    draft.votes = best->votes;
    add(std::move(draft));
    return true;
  }

  // What a volume explains is no evidence for another one: folders that begin where it has them,
  // and files that begin there as their formats do.
  void add(Draft draft) {
    std::array<std::byte, kSweepStep> head{};
    std::erase_if(told_, [&](const Told& told) {
      const uint64_t place = draft.grid.place_of(told.first - kFirstCluster);
      if (told.folder && starts_at(place)) explained_.try_emplace(place, drafts_.size());
      if (told.folder) return starts_at(place);
      const auto mark = told.format != nullptr ? mark_of(*told.format) : std::nullopt;
      return !mark || place >= scene_.source->size() ||
             (scene_.source->read(place, head).ok() && mark_at(head) == mark);
    });
    drafts_.push_back(std::move(draft));
  }

  // How many folders begin where other folders say.
  size_t folders_named(const Grid& grid) const {
    return static_cast<size_t>(std::ranges::count_if(told_, [&](const Told& told) {
      return told.folder && starts_at(grid.place_of(told.first - kFirstCluster));
    }));
  }

  bool starts_at(uint64_t place) const {
    const auto part = std::ranges::lower_bound(sectors_, place, {}, &Trace::offset);
    return part != sectors_.end() && part->offset == place;
  }

  void take_current() {
    for (VolumeReader* reader : scene_.current) {
      const Volume& volume = reader->volume();
      if (volume.file_system != "exfat") continue;
      const Window window(scene_.source, volume.offset, scene_.source->size() - volume.offset);
      Draft present;
      present.grid = {volume.heap_offset, volume.cluster_size};
      present.volume_start = volume.offset;
      present.geometry = find_geometry(window, true);
      if (!present.geometry) continue;
      Draft former = present;
      former.geometry.reset();
      const std::optional<uint32_t> oldest = oldest_set(*reader);
      former.before = oldest;
      if (oldest) {
        present.since = oldest;
        if (!folders(present).empty()) add_to_current(present);
      }
      const std::vector<uint32_t> older = folders(former);
      // A format that kept the layout: older folders lie on the same grid, and name each other.
      // Those of another layout, with larger clusters for one, may do so by chance.
      if (!is_most_voted(former.grid)) continue;
      former.votes = static_cast<size_t>(std::ranges::count_if(told_, [&](const Told& told) {
        return told.folder && std::ranges::binary_search(older, told.first);
      }));
      if (former.votes > 0 || score_by_content(*scene_.source, former.grid, files()) > 0) {
        if (!older.empty()) add(std::move(former));
      }
    }
  }

  // Whether no other layout has more votes, and more than chance gives.
  bool is_most_voted(const Grid& grid) const {
    const std::vector<Pin> all = pins();
    size_t own = 0;
    size_t most = 0;
    for (const VotedGrid& candidate : most_voted(all, kLeastCluster, kMostCluster, kCandidates)) {
      most = std::max(most, candidate.votes);
      if (candidate.grid == grid) own = candidate.votes;
    }
    return own == most || most < votes_above_chance(all.size(), scene_.source->size());
  }

  // The creation time, as stored, of the oldest set a volume has.
  std::optional<uint32_t> oldest_set(VolumeReader& reader) const {
    struct Oldest : Sink {
      int64_t add(const Entry& entry) override {
        if (!entry.system) keys.push_back(entry.key);
        return 0;
      }
      void add(int64_t, const OtherName&) override {}
      void add(const Damage&) override {}
      std::vector<uint64_t> keys;
    } found;
    reader.read(found);
    std::optional<uint32_t> oldest;
    for (const uint64_t key : found.keys) {
      FileEntry file{};
      const auto bytes = std::as_writable_bytes(std::span(&file, 1));
      if (!scene_.source->read(reader.volume().offset + key, bytes).ok()) continue;
      if ((file.EntryType | kInUse) != kFile) continue;
      oldest = std::min(oldest.value_or(UINT32_MAX), file.CreateTimestamp.value());
    }
    return oldest;
  }

  void take_headers() {
    for (const Trace& trace : thinned(scene_.of_kind(kHeaderTrace), kMostHeaders)) {
      BootSector boot{};
      if (drafts_.size() >= kMostVolumes || scene_.is_held(trace.range()) ||
          !scene_.source->read(trace.offset, std::as_writable_bytes(std::span(&boot, 1))).ok()) {
        continue;
      }
      std::optional<Geometry> geometry = from_fields(boot);
      if (!geometry) continue;
      const uint64_t start = trace.number;
      const bool known = scene_.is_current(start, "exfat") ||
                         std::ranges::any_of(drafts_, [&](const Draft& draft) {
                           return draft.geometry && draft.volume_start == start;
                         });
      if (known) continue;
      Draft draft;
      draft.grid = {start + geometry->heap_offset, geometry->cluster_size};
      draft.volume_start = start;
      geometry->notes.clear();
      draft.geometry = std::move(geometry);
      // A boot sector and its backup are alike: of the places that each may stand for, that one is
      // right at which something is where it says.
      draft.votes = folders_named(draft.grid);
      if (draft.votes == 0 && !has_root(draft)) continue;
      add(std::move(draft));
    }
  }

  bool has_root(const Draft& draft) const {
    const uint64_t root = draft.grid.place_of(draft.geometry->root_cluster - kFirstCluster);
    return std::ranges::any_of(scene_.of_kind(kRootEntries),
                               [&](const Trace& trace) { return trace.offset == root; });
  }

  // Clusters of the grid that hold sets, and before these nothing but entries.
  std::vector<uint32_t> folders(const Draft& draft) const {
    std::vector<uint32_t> found;
    const uint64_t end = end_of(draft);
    for (const Trace& part : sectors_) {
      if (part.end() <= draft.grid.start || part.offset >= end) continue;
      const uint64_t size = draft.grid.unit_size;
      const uint64_t from = std::max(part.offset, draft.grid.start) - draft.grid.start;
      for (uint64_t n = from / size; draft.grid.place_of(n) < part.end(); ++n) {
        const uint64_t place = draft.grid.place_of(n);
        if (leads_to_sets(place, part) && belongs(draft, std::max(place, part.offset)) &&
            !is_anothers(draft, place)) {
          found.push_back(static_cast<uint32_t>(n + kFirstCluster));
        }
      }
    }
    std::ranges::sort(found);
    found.erase(std::unique(found.begin(), found.end()), found.end());
    return found;
  }

  // Whether another volume's folder that is named begins there.
  bool is_anothers(const Draft& draft, uint64_t place) const {
    const auto owner = explained_.find(place);
    return owner != explained_.end() && !(drafts_[owner->second].grid == draft.grid);
  }

  // Whether the cluster at `place` reads as a folder as far as to the first set that `part` has in
  // it: it may begin within a set that is cut, or with what is left of some.
  bool leads_to_sets(uint64_t place, const Trace& part) const {
    std::array<DirectoryEntry, kSweepStep / sizeof(DirectoryEntry)> entries;
    for (uint64_t at = place; at < part.offset; at += kSweepStep) {
      const bool whole =
          scene_.source->read(at, std::as_writable_bytes(std::span(entries))).ok() &&
          std::ranges::all_of(entries, [](const auto& e) { return is_known_type(e.EntryType); });
      if (!whole) return false;
    }
    return true;
  }

  // The first set that begins there or soon behind.
  FileEntry first_set(uint64_t place) const {
    std::array<DirectoryEntry, kMostSetEntries> entries{};
    scene_.source->read(place, std::as_writable_bytes(std::span(entries)));
    const auto found = std::ranges::find_if(
        entries, [](const DirectoryEntry& entry) { return (entry.EntryType | kInUse) == kFile; });
    return std::bit_cast<FileEntry>(found == entries.end() ? entries.front() : *found);
  }

  bool belongs(const Draft& draft, uint64_t place) const {
    if (!draft.before && !draft.since) return true;
    const uint32_t created = first_set(place).CreateTimestamp.value();
    return draft.before ? created < *draft.before : created >= *draft.since;
  }

  void add_to_current(const Draft& draft) {
    const ByteRange where{draft.volume_start, scene_.source->size() - draft.volume_start};
    std::vector<uint32_t> own = folders(draft);
    note_placed(draft.grid, own);
    assembled_.push_back({make_reader(scene_.source, where, *draft.geometry, scene_.options,
                                      {std::move(own), false}),
                          true});
  }

  void note_placed(const Grid& grid, const std::vector<uint32_t>& folders) {
    for (const uint32_t cluster : folders) {
      placed_.push_back({grid.place_of(cluster - kFirstCluster), grid.unit_size});
    }
  }

  // A name is not lost because nothing tells where its file lay: folders that no layout explains.
  void keep_unplaced() {
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

  uint64_t end_of(const Draft& draft) const {
    if (draft.geometry) {
      return draft.grid.start + uint64_t{draft.geometry->cluster_count} * draft.grid.unit_size;
    }
    return scene_.end_around(draft.grid.start);
  }

  void finish(Draft& draft) {
    const bool by_votes = !draft.geometry;
    if (by_votes) infer(draft);
    Geometry& geometry = *draft.geometry;
    Found found;
    found.folders = folders(draft);
    if (found.folders.empty() && geometry.root_cluster == 0) return;
    note_placed(draft.grid, found.folders);
    found.former = scene_.current_at(draft.grid.start) != nullptr;
    // A root that is written over is none.
    const uint64_t root = draft.volume_start + geometry.offset_of(geometry.root_cluster);
    if (geometry.root_cluster != 0 && found.former && scene_.is_held({root, 512})) {
      geometry.root_cluster = 0;
    }
    const int votes = static_cast<int>(std::min<size_t>(draft.votes, 8));
    geometry.confidence = std::min(90, 40 + 20 * !by_votes + 6 * votes);
    if (by_votes) {
      geometry.notes.push_back(fmt::format(
          "No boot sector is left of it. {} folder{} found where others name them tell its layout.",
          draft.votes, draft.votes == 1 ? "" : "s"));
    }
    const ByteRange where{draft.volume_start, scene_.source->size() - draft.volume_start};
    assembled_.push_back(
        {make_reader(scene_.source, where, geometry, scene_.options, std::move(found)), false});
  }

  void infer(Draft& draft) const {
    Geometry g;
    const Grid& grid = draft.grid;
    const uint64_t start = scene_.start_before(grid.start);
    const uint64_t end = end_of(draft);
    draft.volume_start = start;
    g.cluster_size = static_cast<uint32_t>(grid.unit_size);
    g.sector_size = std::min(g.cluster_size, scene_.source->sector_size());
    g.volume_size = end - start;
    g.heap_offset = grid.start - start;
    g.cluster_count =
        static_cast<uint32_t>(std::min<uint64_t>((end - grid.start) / grid.unit_size, 0xFFFFFFF5));
    for (const Trace& root : scene_.of_kind(kRootEntries)) {
      const bool aligned =
          root.offset >= grid.start && (root.offset - grid.start) % grid.unit_size == 0;
      if (!aligned || root.offset >= end || scene_.is_held(root.range())) continue;
      g.root_cluster =
          static_cast<uint32_t>((root.offset - grid.start) / grid.unit_size + kFirstCluster);
      break;
    }
    for (const Trace& fat : scene_.of_kind(kFat)) {
      if (fat.offset < start || fat.offset >= grid.start || scene_.is_held(fat.range())) continue;
      g.fat_offset = fat.offset - start;
      g.fat_size = g.heap_offset - g.fat_offset;
    }
    draft.geometry = std::move(g);
  }

  const Scene& scene_;
  std::vector<Trace> sectors_;  // with sets, free now
  std::vector<Told> told_;
  std::vector<Draft> drafts_;
  std::map<uint64_t, size_t> explained_;  // where folders begin, and which draft names them
  std::vector<ByteRange> placed_;         // clusters that some volume has for a folder's
  std::vector<Assembled> assembled_;
};

}  // namespace

std::vector<Assembled> assemble(const Scene& scene) { return Assembler(scene).run(); }

}  // namespace undershelf::exfat
