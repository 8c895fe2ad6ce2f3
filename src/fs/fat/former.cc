#include "fs/fat/former.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>
#include <set>

#include "content/types.h"
#include "fs/fat/content.h"
#include "fs/fat/detector.h"
#include "fs/fat/inference.h"
#include "fs/fat/reader.h"
#include "fs/votes.h"

namespace undershelf::fat {
namespace {

constexpr size_t kMostVolumes = 64;      // put together from one source
constexpr size_t kMostVotes = 500'000;   // folders that vote
constexpr int kLeastScore = 12;          // of content, where nothing else tells the layout
constexpr size_t kMostFiles = 20'000;    // looked at for their format
constexpr uint64_t kMostPart = 1 << 20;  // bytes read of entries that follow each other
constexpr size_t kMostSingles = 256;     // folders that agree with no other, looked at
constexpr uint64_t kLeastMiddle = 4085, kLeastWide = 65525;  // clusters: of FAT16, of FAT32
constexpr uint32_t kFirstCluster = 2;
constexpr uint64_t kLeastCluster = 512;    // bytes
constexpr uint64_t kMostCluster = 524288;  // bytes: 128 sectors of 4096
constexpr uint64_t kMostRoot = 65536;      // bytes: of a fixed root folder, as drivers make them

std::vector<Trace> copy_of(std::span<const Trace> traces) { return {traces.begin(), traces.end()}; }

Pin pin_of(const Trace& start) { return {start.number - kFirstCluster, start.offset}; }

// A volume on its way.
struct Draft {
  Grid grid;                         // its unit 0 is cluster 2
  std::vector<Trace> starts;         // folders that lie on the grid
  std::optional<Geometry> geometry;  // of its boot sector, if one is left
  uint64_t volume_start = 0;         // byte of the source
  // What lies on the grid belongs to it if it was made before that, or not before that.
  std::optional<Time> before, since;
};

class Assembler {
 public:
  explicit Assembler(const Scene& scene)
      : scene_(scene),
        starts_(copy_of(scene.of_kind(kFolderStart))),
        entries_(copy_of(scene.of_kind(kFolderEntries))),
        tables_(copy_of(scene.of_kind(kTable))),
        code_page_(scene.options.code_page) {
    const auto is_held = [&](const Trace& trace) { return scene_.is_held(trace.range()); };
    std::erase_if(starts_, is_held);
    std::erase_if(tables_, is_held);
  }

  std::vector<Assembled> run() {
    take_current();
    take_headers();
    while (drafts_.size() < kMostVolumes) {
      std::vector<Pin> pins;
      // Where there are very many, a part of them tells as much.
      const size_t step = starts_.size() / kMostVotes + 1;
      for (size_t i = 0; i < starts_.size(); i += step) pins.push_back(pin_of(starts_[i]));
      const auto [grid, votes] = most_voted(pins, kLeastCluster, kMostCluster);
      if (votes < votes_above_chance(pins.size(), scene_.source->size())) break;
      Draft draft;
      draft.grid = grid;
      claim_starts(draft);
      drafts_.push_back(std::move(draft));
    }
    for (const Trace& start : std::vector<Trace>(starts_)) take_single(start);
    while (drafts_.size() < kMostVolumes && take_loose()) {
    }
    for (const Draft& draft : present_) add_to_current(draft);
    for (Draft& draft : drafts_) finish(draft);
    return std::move(assembled_);
  }

 private:
  // Where but one folder is left of a volume, the files it names must begin as their formats do.
  void take_single(const Trace& start) {
    if (drafts_.size() >= kMostVolumes || ++singles_ > kMostSingles) return;
    std::vector<KnownFile> files;
    add_files(start.offset, kMostRoot, files);
    Draft best;
    int most = 0;
    for (uint64_t size = kLeastCluster; size <= kMostCluster; size *= 2) {
      const uint64_t before = (start.number - kFirstCluster) * size;
      if (before > start.offset) break;
      const Grid grid{start.offset - before, size};
      const int score = score_by_content(*scene_.source, grid, files);
      if (score > most) {
        most = score;
        best.grid = grid;
      }
    }
    if (most < kLeastScore) return;
    claim_starts(best);
    if (!best.starts.empty()) drafts_.push_back(std::move(best));
  }

  // Where no folder's beginning is left, only later clusters: the files they name begin where
  // content of their formats does, in one layout. False if there is none.
  bool take_loose() {
    std::vector<KnownFile> files;
    for (const Trace& trace : entries_) {
      const bool known =
          scene_.is_held(trace.range()) || std::ranges::any_of(drafts_, [&](const Draft& draft) {
            return trace.offset + kMostRoot >= draft.grid.start && trace.offset < end_of(draft);
          });
      if (!known && files.size() < kMostFiles) {
        add_files(trace.offset, std::min(trace.length, kMostPart), files);
      }
    }
    if (files.empty()) return false;
    const std::vector<Pin> pins = content_pins(files, scene_.contents);
    const auto [grid, votes] = most_voted(pins, kLeastCluster, kMostCluster);
    if (votes < votes_above_chance(pins.size(), scene_.source->size()) ||
        score_by_content(*scene_.source, grid, files) < kLeastScore) {
      return false;
    }
    Draft draft;
    draft.grid = grid;
    drafts_.push_back(std::move(draft));
    return true;
  }

  void claim_starts(Draft& draft) {
    std::erase_if(starts_, [&](const Trace& start) {
      if (!is_on(draft.grid, pin_of(start))) return false;
      draft.starts.push_back(start);
      return true;
    });
  }

  // What lies on the grid of a volume that is there now is its own, unless it is older than
  // everything the volume holds: then it comes from before a format that changed nothing else.
  void take_current() {
    for (VolumeReader* reader : scene_.current) {
      const Volume& volume = reader->volume();
      if (!volume.file_system.starts_with("fat")) continue;
      Draft present;
      present.grid = {volume.heap_offset, volume.cluster_size};
      present.volume_start = volume.offset;
      const auto window = std::make_shared<Window>(scene_.source, volume.offset,
                                                   scene_.source->size() - volume.offset);
      present.geometry = find_geometry(window, true);
      if (!present.geometry) continue;
      claim_starts(present);
      const std::optional<Time> oldest = oldest_entry(*reader);
      Draft former = present;
      former.geometry.reset();  // the boot sector is the present volume's
      former.before = oldest;
      std::erase_if(former.starts,
                    [&](const Trace& start) { return !belongs(former, start.offset); });
      if (oldest) {
        present.since = oldest;
        std::erase_if(present.starts,
                      [&](const Trace& start) { return !belongs(present, start.offset); });
        present_.push_back(std::move(present));
      }
      if (!former.starts.empty() || is_former_inside(former)) drafts_.push_back(std::move(former));
    }
  }

  // Whether later clusters of folders tell of a volume whose folders' beginnings are all gone, as
  // where a device made the same folders again after a format: what they name must be there.
  bool is_former_inside(const Draft& draft) const {
    std::vector<KnownFile> files;
    for (const uint32_t cluster : insides(draft)) {
      add_files(draft.grid.place_of(cluster - kFirstCluster), draft.grid.unit_size, files);
    }
    return score_by_content(*scene_.source, draft.grid, files) >= kLeastScore;
  }

  // Files whose format is known, of the entries in `length` bytes at `place` of the source.
  void add_files(uint64_t place, uint64_t length, std::vector<KnownFile>& files) const {
    Geometry any;  // for entries of which nothing is known
    any.type = Type::fat32;
    any.cluster_size = kLeastCluster;
    any.cluster_count = 0x0FFFFFF5;
    Content content;
    content.append(*scene_.source, {place, length});
    for (const FolderEntry& entry :
         parse_folder(content.entries, any, Trust::candidate, code_page_).entries) {
      const uint32_t first = first_cluster(entry.raw, any);
      const Format& format = format_by_name(entry.name.text);
      const bool file = (entry.raw.DIR_Attr & kAttrDirectory) == 0;
      if (file && first >= kFirstCluster && !format.magic.empty()) {
        files.push_back({first - kFirstCluster, &format});
      }
    }
  }

  // Whether the entries at `place` (byte of the source) were made when the draft's volume was
  // there.
  bool belongs(const Draft& draft, uint64_t place) const {
    if (!draft.before && !draft.since) return true;
    const std::optional<Time> time = first_time(place);
    if (draft.before) return !time || *time < *draft.before;
    return time && *time >= *draft.since;
  }

  // When the first of a volume's entries was made.
  static std::optional<Time> oldest_entry(VolumeReader& reader) {
    struct Oldest : Sink {
      int64_t add(const Entry& entry) override {
        const auto& time = entry.created ? entry.created : entry.modified;
        if (time && (!found || *time < *found)) found = time;
        return 0;
      }
      void add(int64_t, const OtherName&) override {}
      void add(const Damage&) override {}
      std::optional<Time> found;
    } oldest;
    reader.read(oldest);
    return oldest.found;
  }

  // When the first entry of a sector that tells a time was made.
  std::optional<Time> first_time(uint64_t place) const {
    std::array<DirectoryEntry, kSweepStep / sizeof(DirectoryEntry)> entries{};
    scene_.source->read(place, std::as_writable_bytes(std::span(entries)));
    for (const DirectoryEntry& entry : entries) {
      if ((entry.DIR_Attr & kAttrLongNameMask) == kAttrLongName) continue;
      auto time = created_time(entry);
      if (!time) time = modified_time(entry);
      if (time) return scene_.options.zone.to_utc(*time);
    }
    return std::nullopt;
  }

  void add_to_current(const Draft& draft) {
    Found found;
    found.swept = true;
    fill(found, draft);
    if (found.folders.empty() && found.insides.empty()) return;
    const ByteRange where{draft.volume_start, scene_.source->size() - draft.volume_start};
    assembled_.push_back(
        {make_reader(scene_.source, where, *draft.geometry, scene_.options, std::move(found)),
         true});
  }

  // Boot sectors, and the places that their backups stand for.
  void take_headers() {
    std::set<uint64_t> places;
    for (const Trace& trace : thinned(scene_.of_kind(kHeaderTrace), kMostHeaders)) {
      if (!scene_.is_held(trace.range())) places.insert(trace.number);
    }
    for (const uint64_t place : places) {
      if (scene_.is_current(place, "fat")) continue;
      const Window window(scene_.source, place, scene_.source->size() - place);
      std::optional<Geometry> geometry = geometry_at(window, 0);
      for (const uint64_t sector : {512U, 4096U}) {
        if (geometry) break;
        geometry = geometry_at(window, 6 * sector);
        if (geometry && (geometry->type != Type::fat32 || geometry->sector_size != sector)) {
          geometry.reset();
        }
      }
      if (!geometry) continue;
      Draft draft;
      draft.grid = {place + geometry->heap_offset, geometry->cluster_size};
      draft.volume_start = place;
      claim_starts(draft);
      const Confirmation confirmed = confirm(window, *geometry);
      // Fields that happen to make sense are believed if something is where they say.
      const bool there =
          begins_like_fat(window, *geometry, 0) || confirmed.folders > 0 || !draft.starts.empty();
      if (!there) continue;
      geometry->confidence =
          std::min(90, 50 + 10 * static_cast<int>(draft.starts.size()) + 10 * confirmed.folders);
      draft.geometry = std::move(geometry);
      drafts_.push_back(std::move(draft));
    }
  }

  static std::optional<Geometry> geometry_at(const Source& window, uint64_t at) {
    BootSector boot{};
    if (!window.read(at, std::as_writable_bytes(std::span(&boot, 1))).ok()) return std::nullopt;
    auto geometry = from_fields(boot);
    if (geometry) add_identity(boot, *geometry);
    return geometry;
  }

  // Clusters that hold the inside of folders, as the sweep saw them.
  std::vector<uint32_t> insides(const Draft& draft) const {
    std::vector<uint32_t> found;
    const uint64_t size = draft.grid.unit_size;
    const uint64_t end = end_of(draft);
    for (const Trace& trace : entries_) {
      if (trace.end() <= draft.grid.start || trace.offset >= end) continue;
      const uint64_t from = std::max(trace.offset, draft.grid.start) - draft.grid.start;
      for (uint64_t n = (from + size - 1) / size;
           draft.grid.start + n * size < std::min(trace.end(), end); ++n) {
        const uint64_t place = draft.grid.start + n * size;
        if (scene_.is_held({place, size}) || !belongs(draft, place)) continue;
        if (lies_in_smaller(draft, place)) continue;
        found.push_back(static_cast<uint32_t>(n + kFirstCluster));
      }
    }
    std::ranges::sort(found);
    found.erase(std::unique(found.begin(), found.end()), found.end());
    return found;
  }

  // Whether a volume inside the draft's, as that of an image kept in a file, covers a place.
  bool lies_in_smaller(const Draft& draft, uint64_t place) const {
    return std::ranges::any_of(drafts_, [&](const Draft& other) {
      // Without its boot sector, at least a fixed root may lie before its clusters.
      const uint64_t begin = other.geometry
                                 ? other.volume_start
                                 : other.grid.start - std::min(other.grid.start, kMostRoot);
      return !(other.grid == draft.grid) && begin > draft.grid.start &&
             end_of(other) < end_of(draft) && place >= begin && place < end_of(other);
    });
  }

  uint64_t end_of(const Draft& draft) const {
    if (draft.geometry) {
      return draft.grid.start + uint64_t{draft.geometry->cluster_count} * draft.grid.unit_size;
    }
    uint64_t end = scene_.end_around(draft.grid.start);
    for (const Trace& start : draft.starts) {
      end = std::max(end, start.offset + draft.grid.unit_size);
    }
    return std::min(end, scene_.source->size());
  }

  void fill(Found& found, const Draft& draft) const {
    for (const Trace& start : draft.starts) {
      found.folders.push_back(static_cast<uint32_t>(start.number));
    }
    std::ranges::sort(found.folders);
    found.folders.erase(std::unique(found.folders.begin(), found.folders.end()),
                        found.folders.end());
    found.insides = insides(draft);
    std::erase_if(found.insides, [&](uint32_t cluster) {
      return std::ranges::binary_search(found.folders, cluster);
    });
  }

  void finish(Draft& draft) {
    const bool by_votes = !draft.geometry;
    const size_t votes = draft.starts.size();
    if (by_votes) infer(draft);
    Geometry& geometry = *draft.geometry;
    Found found;
    found.swept = true;
    fill(found, draft);
    find_root(draft, found);
    // What still has its boot sector, and nothing in the way of its tables, is read as it stands.
    const bool stands = !by_votes && scene_.current_at(draft.volume_start) == nullptr;
    found.former = !stands;
    if (by_votes && own_structures(draft)) found.former = false;
    if (by_votes) {
      geometry.confidence = std::min(90, 40 + 5 * static_cast<int>(std::min<size_t>(votes, 10)));
      geometry.notes.push_back(
          votes == 0
              ? "No boot sector and no folder's beginning is left of it. The content of files "
                "tells "
                "its layout."
          : votes == 1
              ? "No boot sector is left of it. 1 folder that names its own place tells its layout."
              : fmt::format("No boot sector is left of it. {} folders that name their own place "
                            "tell its layout.",
                            votes));
    }
    const ByteRange where{draft.volume_start, scene_.source->size() - draft.volume_start};
    assembled_.push_back(
        {make_reader(scene_.source, where, geometry, scene_.options, std::move(found)), false});
  }

  // The layout around a grid of which nothing but folders is known.
  void infer(Draft& draft) {
    Geometry g;
    const Grid& grid = draft.grid;
    const uint64_t end = end_of(draft);
    g.cluster_size = static_cast<uint32_t>(grid.unit_size);
    g.sector_size = std::min<uint32_t>(g.cluster_size, scene_.source->sector_size());
    const uint64_t clusters = (end - grid.start) / grid.unit_size;
    g.cluster_count = static_cast<uint32_t>(std::min<uint64_t>(clusters, 0x0FFFFFF5));
    // The nearest place before it at which a volume may have begun.
    const uint64_t start = scene_.start_before(grid.start);
    const std::vector<Trace> tables = tables_of(draft, start);
    const bool high = std::ranges::any_of(
        draft.starts, [](const Trace& s) { return s.number > 0xFFFF || s.other > 0xFFFF; });
    // The width of a table's entries tells the type, or a fixed root does, or else the room there
    // is.
    bool wide = high || clusters >= kLeastWide || lies_behind_wide_head(draft, start);
    if (has_fixed_root(draft)) wide = high;
    if (!tables.empty()) wide = tables.front().other == 32;
    g.type = wide ? Type::fat32 : clusters < kLeastMiddle ? Type::fat12 : Type::fat16;
    draft.volume_start = start;
    g.volume_size = end - start;
    g.heap_offset = grid.start - start;
    g.fat_count = 0;
    if (!tables.empty()) add_tables(tables, grid.start, g);
    draft.geometry = std::move(g);
  }

  // Where tables and a fixed root lie, by the tables of which chains are left.
  void add_tables(const std::vector<Trace>& tables, uint64_t data, Geometry& g) const {
    constexpr uint64_t kUsualRoot = 16384;  // bytes: 512 entries
    const uint64_t start = data - g.heap_offset;
    g.fat_offset = tables.front().number - start;
    g.fat_count = tables.size() > 1 ? 2 : 1;
    const uint64_t room = data - tables.back().number;  // of the last table, and the root
    const uint64_t needed = (uint64_t{g.cluster_count} + 2) * tables.front().other / 8;
    g.fat_size = tables.size() > 1 ? tables[1].number - tables[0].number : std::min(needed, room);
    if (g.type == Type::fat32) return;
    g.root_size = std::min(room, kUsualRoot);
    g.root_offset = g.heap_offset - g.root_size;
    g.fat_size = std::min(g.fat_size, g.root_offset - (tables.back().number - start));
  }

  // Tables before the grid, one trace for each, by place; at most two: those with most of them
  // left.
  std::vector<Trace> tables_of(const Draft& draft, uint64_t start) const {
    std::map<std::pair<uint64_t, uint64_t>, uint64_t> left;  // begin and bits, to bytes left
    for (const Trace& trace : tables_) {
      const bool before = trace.number > start && trace.end() <= draft.grid.start;
      if (before) left[{trace.number, trace.other}] += trace.length;
    }
    std::vector<std::pair<uint64_t, Trace>> ranked;
    for (const auto& [table, bytes] : left) {
      ranked.push_back({bytes, {table.first, bytes, kTable, table.first, table.second}});
    }
    std::ranges::stable_sort(ranked, std::ranges::greater{}, &std::pair<uint64_t, Trace>::first);
    std::vector<Trace> tables;
    for (const auto& [bytes, table] : ranked) {
      if (tables.size() == 2 || (!tables.empty() && table.other != tables[0].other)) break;
      tables.push_back(table);
    }
    std::ranges::sort(tables, {}, &Trace::number);
    return tables;
  }

  bool has_fixed_root(const Draft& draft) const {
    return std::ranges::any_of(entries_, [&](const Trace& trace) {
      return trace.end() <= draft.grid.start && trace.end() + kMostRoot > draft.grid.start;
    });
  }

  // FAT32 keeps two tables of four bytes a cluster before its data: that is more room than FAT16
  // and its root can take.
  static bool lies_behind_wide_head(const Draft& draft, uint64_t start) {
    constexpr uint64_t kMostNarrow = 2 * 2 * 65536 + kMostRoot + 65536;
    return draft.grid.start - start > kMostNarrow;
  }

  // Whether the tables begin as tables do, and so are still the volume's.
  bool own_structures(const Draft& draft) const {
    const Geometry& g = *draft.geometry;
    if (g.fat_count == 0 || scene_.current_at(draft.grid.start) != nullptr) return false;
    std::array<std::byte, 2> head{};
    const bool readable = scene_.source->read(draft.volume_start + g.fat_offset, head).ok();
    return readable && head[0] >= std::byte{0xF0} && head[1] == std::byte{0xFF};
  }

  // Parts of the former root: what lies right before the data of FAT12 and FAT16, and clusters that
  // name folders whose `..` names the root.
  void find_root(Draft& draft, Found& found) const {
    Geometry& geometry = *draft.geometry;
    const Window window(scene_.source, draft.volume_start,
                        scene_.source->size() - draft.volume_start);
    if (geometry.type != Type::fat32) {
      for (const Trace& trace : entries_) {
        if (trace.end() > draft.grid.start || trace.end() + kMostRoot <= draft.grid.start) continue;
        if (trace.offset < draft.volume_start || scene_.is_held(trace.range())) continue;
        found.root.push_back({trace.offset - draft.volume_start, trace.length});
      }
      return;
    }
    std::vector<uint32_t> root;
    for (const uint32_t cluster : found.insides) {
      Content content;
      content.append(window, {geometry.offset_of(cluster), geometry.cluster_size});
      // Formatters begin the root with the first cluster.
      const bool first = cluster == kFirstCluster;
      if (first || names_top_folders(content, window, geometry, found)) root.push_back(cluster);
    }
    for (const uint32_t cluster : root) {
      found.root.push_back({geometry.offset_of(cluster), geometry.cluster_size});
      std::erase(found.insides, cluster);
    }
    if (!root.empty() && geometry.root_cluster == 0) geometry.root_cluster = root.front();
  }

  bool names_top_folders(const Content& content, const Window& window, const Geometry& geometry,
                         const Found& found) const {
    const FolderContent parsed =
        parse_folder(content.entries, geometry, Trust::deleted, code_page_);
    if (parsed.label) return true;
    size_t agreeing = 0;
    size_t others = 0;
    for (const FolderEntry& entry : parsed.entries) {
      if ((entry.raw.DIR_Attr & kAttrDirectory) == 0) continue;
      const uint32_t cluster = first_cluster(entry.raw, geometry);
      if (!std::ranges::binary_search(found.folders, cluster)) continue;
      Content start;
      start.append(window, {geometry.offset_of(cluster), 2 * sizeof(DirectoryEntry)});
      const bool top = first_cluster(start.entries[1], geometry) == 0;
      ++(top ? agreeing : others);
    }
    return agreeing > others;
  }

  const Scene& scene_;
  std::vector<Trace> starts_;  // not yet of any volume
  size_t singles_ = 0;
  std::vector<Trace> entries_;
  std::vector<Trace> tables_;
  CodePage code_page_;
  std::vector<Draft> present_;  // what of current volumes their own structures do not lead to
  std::vector<Draft> drafts_;
  std::vector<Assembled> assembled_;
};

}  // namespace

std::vector<Assembled> assemble(const Scene& scene) { return Assembler(scene).run(); }

}  // namespace undershelf::fat
