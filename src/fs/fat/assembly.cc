#include <fmt/format.h>

#include <algorithm>
#include <array>

#include "content/types.h"
#include "fs/chained/assembler.h"
#include "fs/fat/content.h"
#include "fs/fat/head.h"
#include "fs/fat/inference.h"
#include "fs/fat/reader.h"
#include "fs/systems.h"
#include "fs/trace_kinds.h"

namespace undershelf::fat {
namespace {

using chained::kFirstCluster;

constexpr size_t kMostVotes = 500'000;   // folders that vote
constexpr size_t kMostFiles = 20'000;    // looked at for their format
constexpr uint64_t kMostPart = 1 << 20;  // bytes read of entries that follow each other
constexpr size_t kMostSingles = 256;     // folders that agree with no other, looked at

struct System : chained::SystemOf<BootSector, Geometry, Found, find_geometry, make_reader,
                                  kFatRules, 0x0FFFFFF5> {
  static constexpr std::string_view kFamily = "fat";
  static std::optional<Geometry> from_header(const BootSector& boot) {
    std::optional<Geometry> geometry = from_fields(boot);
    if (geometry) add_identity(boot, *geometry);
    return geometry;
  }
};

Pin pin_of(const Trace& start) { return {start.number - kFirstCluster, start.offset}; }

// A folder's first cluster at byte X that names itself cluster C lies in a volume whose data begins
// at X - (C - 2) * cluster size: two folders tell where that is, votes of all of them which
// volumes there were. Boot sectors and their backups give the rest where they are left, tables
// where chains are.
class Assembler : public chained::Assembler<System> {
 public:
  explicit Assembler(const Scene& scene)
      : chained::Assembler<System>(scene),
        starts_(scene.free_of_kind(kFolderStart)),
        entries_(scene.of_kind(kFolderEntries)),
        tables_(scene.free_of_kind(kTable)),
        code_page_(scene.options.code_page) {}

 private:
  void explain(Draft& draft) override {
    std::erase_if(starts_, [&](const Trace& start) {
      if (!is_on(draft.grid, pin_of(start)) || !belongs(draft, start.offset)) return false;
      draft.starts.push_back(start);
      draft.end = std::max(draft.end, start.offset + draft.grid.unit_size);
      return true;
    });
    draft.votes += draft.starts.size();
  }

  void take_lives(Draft present, Draft former) override {
    if (present.since) {
      explain(present);
      present_.push_back(std::move(present));
    }
    explain(former);
    if (former.votes > 0 || is_former_inside(former)) drafts_.push_back(std::move(former));
  }

  // Whether later clusters of folders tell of a volume whose folders' beginnings are all gone, as
  // where a device made the same folders again after a format: what they name must be there.
  bool is_former_inside(const Draft& draft) const {
    std::vector<KnownFile> files;
    for (const uint32_t cluster : insides(draft)) {
      add_files(draft.grid.place_of(cluster - kFirstCluster), draft.grid.unit_size, files);
    }
    return layouts_.is_content(draft.grid, files);
  }

  bool is_there(Draft& draft, const Geometry& geometry) override {
    const auto window = std::make_shared<Window>(scene_.source, draft.volume_start,
                                                 scene_.source->size() - draft.volume_start);
    const Merit merit = weigh(window, geometry);
    return begins_like_fat(*window, geometry) || merit.folders + merit.first > 0 ||
           std::ranges::any_of(starts_,
                               [&](const Trace& s) { return is_on(draft.grid, pin_of(s)); });
  }

  bool take_next() override { return take_voted() || take_single() || take_loose(); }

  bool take_voted() {
    std::vector<Pin> pins;
    // Where there are very many, a part of them tells as much.
    const size_t step = starts_.size() / kMostVotes + 1;
    for (size_t i = 0; i < starts_.size(); i += step) pins.push_back(pin_of(starts_[i]));
    return take(layouts_.voted(pins));
  }

  bool take(const std::optional<VotedGrid>& voted) {
    if (!voted) return false;
    Draft draft;
    draft.grid = voted->grid;
    add(std::move(draft));
    return true;
  }

  // Where but one folder is left of a volume, the files it names must begin as their formats do.
  bool take_single() {
    while (singles_ < kMostSingles) {
      const auto next = std::ranges::lower_bound(starts_, behind_single_, {}, &Trace::offset);
      if (next == starts_.end()) return false;
      const Trace start = *next;
      ++singles_;
      behind_single_ = start.end();
      std::vector<KnownFile> files;
      add_files(start.offset, kMostRoot, files);
      std::optional<VotedGrid> best;
      int most = kLeastContent - 1;
      for (uint64_t size = System::kRules.least_unit; size <= System::kRules.most_unit; size *= 2) {
        const uint64_t before = (start.number - kFirstCluster) * size;
        if (before > start.offset) break;
        const Grid grid{start.offset - before, size};
        const int score = layouts_.content(grid, files);
        if (score <= most) continue;
        most = score;
        best = {grid, 1};
      }
      if (take(best)) return true;
    }
    return false;
  }

  // Where no folder's beginning is left, only later clusters: the files they name begin where
  // content of their formats does, in one layout.
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
    const std::optional<VotedGrid> voted = layouts_.voted(files);
    return voted && layouts_.is_content(voted->grid, files) && take(voted);
  }

  // Files whose format is known, of the entries in `length` bytes at `place` of the source.
  void add_files(uint64_t place, uint64_t length, std::vector<KnownFile>& files) const {
    Geometry any;  // for entries of which nothing is known
    any.type = Type::fat32;
    any.cluster_size = kSweepStep;
    any.cluster_count = System::kMostClusters;
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

  std::optional<Time> time_at(uint64_t place) const override {
    std::array<DirectoryEntry, kSweepStep / sizeof(DirectoryEntry)> entries{};
    read_at(*scene_.source, place, entries);
    for (const DirectoryEntry& entry : entries) {
      if ((entry.DIR_Attr & kAttrLongNameMask) == kAttrLongName) continue;
      auto time = created_time(entry);
      if (!time) time = modified_time(entry);
      if (time) return scene_.options.zone.to_utc(*time);
    }
    return std::nullopt;
  }

  // Clusters that hold the inside of folders, as the sweep saw them.
  std::vector<uint32_t> insides(const Draft& draft) const {
    std::vector<uint32_t> found;
    for (const Trace& trace : entries_) {
      each_cluster(draft, trace.range(), false, [&](uint32_t cluster, uint64_t place) {
        if (!scene_.is_held({place, draft.grid.unit_size}) && belongs(draft, place) &&
            !lies_in_smaller(draft, place)) {
          found.push_back(cluster);
        }
      });
    }
    make_set(found);
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

  Found folders_of(const Draft& draft) const {
    Found found;
    found.swept = true;
    for (const Trace& start : draft.starts) {
      found.folders.push_back(static_cast<uint32_t>(start.number));
    }
    make_set(found.folders);
    found.insides = insides(draft);
    std::erase_if(found.insides, [&](uint32_t cluster) {
      return std::ranges::binary_search(found.folders, cluster);
    });
    return found;
  }

  std::optional<Found> found_of_present(const Draft& draft) override {
    Found found = folders_of(draft);
    if (found.folders.empty() && found.insides.empty()) return std::nullopt;
    return found;
  }

  std::optional<Found> found_of(const Draft& draft, Geometry& geometry, bool inferred) override {
    Found found = folders_of(draft);
    if (geometry.type == Type::fat32) {
      find_root(draft, geometry, found);
    } else {
      found.root = parts_of_fixed_root(scene_, head_of(draft));
    }
    // What has its boot sector, or tables that begin as tables do, and nothing in the way of them,
    // is read as it stands.
    const bool stands = inferred ? has_own_tables(draft) : true;
    const uint64_t start = inferred ? draft.grid.start : draft.volume_start;
    found.former = !stands || scene_.current_at(start) != nullptr;
    return found;
  }

  Head head_of(const Draft& draft) const {
    const bool high = std::ranges::any_of(draft.starts, [](const Trace& start) {
      return start.number > 0xFFFF || start.other > 0xFFFF;
    });
    return {draft.volume_start, draft.grid.start, high, tables_, entries_};
  }

  void infer(const Draft& draft, Geometry& geometry) override {
    infer_head(head_of(draft), geometry);
  }

  // Whether the tables begin as tables do, and so are still the volume's.
  bool has_own_tables(const Draft& draft) const {
    if (draft.geometry->fat_count == 0) return false;
    std::array<u8, 2> head{};
    return read_at(*scene_.source, draft.volume_start + draft.geometry->fat_offset, head) &&
           head[0] >= 0xF0 && head[1] == 0xFF;
  }

  // Clusters of the former root: those that name folders whose `..` names the root.
  void find_root(const Draft& draft, Geometry& geometry, Found& found) const {
    const Window window(scene_.source, draft.volume_start,
                        scene_.source->size() - draft.volume_start);
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
      const Content start = load_start(window, geometry, cluster);
      const bool top = first_cluster(start.entries[1], geometry) == 0;
      ++(top ? agreeing : others);
    }
    return agreeing > others;
  }

  std::string note(size_t votes) const override {
    if (votes == 0) {
      return "No boot sector and no folder's beginning is left of it. The content of files tells "
             "its layout.";
    }
    if (votes == 1) {
      return "No boot sector is left of it. 1 folder that names its own place tells its layout.";
    }
    return fmt::format(
        "No boot sector is left of it. {} folders that name their own place tell its layout.",
        votes);
  }

  std::vector<Trace> starts_;  // not yet of any volume
  size_t singles_ = 0;
  uint64_t behind_single_ = 0;  // byte of the source: those before it were looked at
  std::span<const Trace> entries_;
  std::vector<Trace> tables_;
  CodePage code_page_;
};

}  // namespace
}  // namespace undershelf::fat

std::vector<undershelf::Assembled> undershelf::assemble(Fat, const Scene& scene) {
  return fat::Assembler(scene).run();
}
