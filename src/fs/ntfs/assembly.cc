#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>
#include <unordered_map>

#include "fs/assembly/layouts.h"
#include "fs/ntfs/fragments.h"
#include "fs/ntfs/free_names.h"
#include "fs/ntfs/reader.h"
#include "fs/systems.h"
#include "fs/trace_kinds.h"

namespace undershelf::ntfs {
namespace {

constexpr const Rules& kRules = kNtfsRules;
constexpr size_t kMostDrafts = 256;
constexpr size_t kLeastRecords = 4;       // fewer, with no header, are not taken for a volume
constexpr size_t kLeastBlocks = 2;        // of an index, or pages of a journal, likewise
constexpr uint64_t kUsualCluster = 4096;  // bytes; where nothing tells and nothing depends on it
constexpr uint64_t kMirrored = 4;         // records of which $MFTMirr has copies
constexpr uint64_t kRoom = 4;  // records are foreseen for so many times the highest folder
// but no more than that, and so many for each block and page: one stray number foresees nothing.
constexpr uint64_t kForeseen = 1 << 20, kForeseenEach = 1024;

// A layout that something speaks for.
struct Candidate {
  Grid grid;
  bool is_told = true;               // false: nothing tells where clusters lie
  std::optional<Geometry> geometry;  // of a boot sector
};

// A volume on its way.
struct Draft {
  Candidate layout;
  size_t pins = 0;  // places that agree with it
  uint32_t record_size = 0;
  std::vector<Placed> records;
  std::unordered_map<uint64_t, std::optional<Time>> made;  // by number, of the records
  uint64_t end = 0;                                        // of the last one: byte of the source

  void add(std::span<const Placed> more) {
    records.insert(records.end(), more.begin(), more.end());
    for (const Placed& record : more) {
      made.emplace(record.number, record.made);
      end = std::max(end, record.place + record_size);
    }
  }
  // Of copies, the one in the longer run of records stays.
  void settle() {
    std::ranges::stable_sort(records, {}, &Placed::number);
    records.erase(
        std::unique(records.begin(), records.end(),
                    [](const Placed& a, const Placed& b) { return a.number == b.number; }),
        records.end());
  }
  // Whether both have records of the same numbers, and these are other files': then they are two
  // volumes. A table that was moved leaves copies, and so does the mirror, which is longer where
  // clusters are large.
  bool overlaps(const Fragment& fragment) const {
    size_t others = 0;
    for (const Placed& record : fragment.records) {
      const auto known = made.find(record.number);
      others += known != made.end() && known->second != record.made;
    }
    return others > 0 && others * 10 > std::min(made.size(), fragment.records.size());
  }
};

// Records say their numbers, so the place of each tells where its table would begin; those that
// agree are one fragment of a table. Run lists count in clusters from where the volume begins:
// folders whose index blocks were found, records of $MFT itself, boot sectors, and at last the
// content of files tell where that is.
class Assembler {
 public:
  explicit Assembler(const Scene& scene)
      : scene_(scene),
        layouts_(scene, kRules),
        free_(scene),
        found_(find_fragments(scene, free_)) {}

  std::vector<Assembled> run() {
    take_headers();
    std::ranges::stable_sort(found_.all, [](const Fragment& a, const Fragment& b) {
      return a.records.size() > b.records.size();
    });
    std::vector<Fragment> mirrors;
    for (Fragment& fragment : found_.all) {
      if (is_mirror(fragment)) {
        mirrors.push_back(std::move(fragment));
      } else {
        place(fragment);
      }
    }
    for (const Fragment& mirror : mirrors) add_mirror(mirror);
    if (volumes_.empty()) add_nameless_tables();
    for (auto& [key, drafts] : volumes_) {
      for (size_t i = 0; i < drafts.size(); ++i) finish(drafts[i], i);
    }
    for (Assembled& more : free_.of_present()) assembled_.push_back(std::move(more));
    return std::move(assembled_);
  }

 private:
  // Boot sectors, and what their backups stand for, tell layouts; whether anything of the volume is
  // left is seen later.
  void take_headers() {
    each_free_header<BootSector>(scene_, "ntfs", [&](uint64_t place, const BootSector& boot) {
      const auto geometry = from_fields(boot);
      if (geometry && headers_.size() < kMostVolumes) {
        headers_.push_back({{place, geometry->cluster_size}, true, geometry});
      }
    });
  }

  // Gives a fragment to the volume whose layout it fits best.
  void place(const Fragment& fragment) {
    const Candidate* best = nullptr;
    int most = 0;
    const std::vector<Candidate> candidates = candidates_for(fragment);
    for (const Candidate& candidate : candidates) {
      const int score = merit(fragment, candidate);
      if (score <= most) continue;
      most = score;
      best = &candidate;
    }
    if (best != nullptr) {
      join(*best, fragment);
    } else {
      place_without_layout(fragment);
    }
  }

  std::vector<Candidate> candidates_for(const Fragment& fragment) {
    std::vector<Candidate> candidates = headers_;
    const auto add = [&](const std::optional<VotedGrid>& voted) {
      if (voted) candidates.push_back({voted->grid, true, std::nullopt});
    };
    add(layouts_.voted(fragment.pins));
    if (fragment.pins.empty()) {
      // One that tells of no place itself adds nothing to what tables tell; they speak once.
      if (!by_tables_) by_tables_ = layouts_.voted(found_.table_pins);
      add(*by_tables_);
    } else {
      std::vector<Pin> pins = fragment.pins;
      pins.insert(pins.end(), found_.table_pins.begin(), found_.table_pins.end());
      add(layouts_.voted(pins));
    }
    // A single file agrees with no other.
    if (fragment.files.size() > 1) add(layouts_.voted(fragment.files));
    for (const Grid& grid : layouts_.at_starts(scene_.starts, scene_.source->size())) {
      candidates.push_back({grid, true, std::nullopt});
    }
    return candidates;
  }

  size_t pins_on(const Fragment& fragment, const Grid& grid) const {
    std::set<uint64_t> units;
    for (const Pin& pin : found_.table_pins) {
      if (is_on(grid, pin) && static_cast<int64_t>(pin.place) == fragment.base) {
        units.insert(pin.unit);
      }
    }
    for (const Pin& pin : fragment.pins) {
      if (is_on(grid, pin)) units.insert(pin.unit);
    }
    return units.size();
  }

  int merit(const Fragment& fragment, const Candidate& candidate) const {
    constexpr int kHeader = 3;
    // Records lie in whole clusters, or clusters in whole records.
    const int64_t first = static_cast<int64_t>(fragment.records.front().place) -
                          static_cast<int64_t>(candidate.grid.start);
    if (first < 0 || first % 512 != 0) return 0;
    // Content that is another's by now says nothing against a layout.
    const int proofs = layouts_.worth(pins_on(fragment, candidate.grid)) +
                       std::max(0, layouts_.content(candidate.grid, fragment.files));
    const bool has_header =
        candidate.geometry && candidate.geometry->record_size == fragment.record_size;
    // A header alone speaks for a table that lies where it says.
    const bool at_header =
        has_header && fragment.base == static_cast<int64_t>(candidate.grid.start +
                                                            candidate.geometry->mft_offset);
    return proofs > 0 ? proofs + kHeader * has_header : at_header ? 1 : 0;
  }

  void join(const Candidate& layout, const Fragment& fragment) {
    const size_t pins = pins_on(fragment, layout.grid);
    auto& drafts = volumes_[{layout.grid.start, layout.grid.unit_size}];
    for (Draft& draft : drafts) {
      if (draft.record_size != fragment.record_size || draft.overlaps(fragment)) continue;
      draft.add(fragment.records);
      draft.pins += pins;
      if (!draft.layout.geometry) draft.layout.geometry = layout.geometry;
      draft.layout.is_told = draft.layout.is_told || layout.is_told;
      return;
    }
    // The longest fragments came first.
    if (++drafts_ > kMostDrafts) return;
    drafts.push_back({layout, pins, fragment.record_size, {}, {}, 0});
    drafts.back().add(fragment.records);
  }

  // A fragment that tells nothing of its layout goes with others of its kind, or else stays alone.
  void place_without_layout(const Fragment& fragment) {
    // Single records may lie as a table's by chance, if there are very many.
    if (fragment.records.size() < std::max(kLeastRecords, layouts_.votes_needed(found_.records))) {
      return;
    }
    for (const auto& [key, drafts] : volumes_) {
      for (const Draft& draft : drafts) {
        if (draft.record_size != fragment.record_size || draft.overlaps(fragment)) continue;
        return join(Candidate(draft.layout), fragment);
      }
    }
    // Names, and what lies in the records themselves, come back all the same.
    const uint64_t inside = fragment.records.front().place;
    join({{scene_.start_before(inside + 1), kUsualCluster}, false, std::nullopt}, fragment);
  }

  // $MFTMirr has copies of the first records only.
  static bool is_mirror(const Fragment& fragment) {
    return fragment.records.empty() || fragment.records.back().number < kMirrored;
  }

  // Copies stand in where the records themselves are gone.
  void add_mirror(const Fragment& mirror) {
    for (auto& [key, drafts] : volumes_) {
      const auto [start, cluster] = key;
      const Grid grid{start, cluster};
      const bool agrees = std::ranges::any_of(found_.table_pins, [&](const Pin& pin) {
        return static_cast<int64_t>(pin.place) == mirror.base && is_on(grid, pin);
      });
      if (!agrees || drafts.empty()) continue;
      for (const Placed& record : mirror.records) {
        if (!drafts.front().made.contains(record.number)) drafts.front().add({&record, 1});
      }
    }
  }

  // Without any record, index blocks and journals still name files, one volume for each place at
  // which one may have begun.
  void add_nameless_tables() {
    std::map<uint64_t, size_t> named;  // volume start, to what names files
    const auto count = [&](const FoundNames& names, bool has_entries) {
      named[scene_.start_before(names.range.offset + 1)] += has_entries;
    };
    for (const auto& [folder, blocks] : free_.blocks()) {
      for (const FreeNames::Block& block : blocks) count(block.names, folder != 0);
    }
    for (const FreeNames::Pages& pages : free_.pages()) count(pages.names, true);
    for (const auto& [start, count_of] : named) {
      if (count_of < kLeastBlocks) continue;
      const Grid grid{start, kUsualCluster};
      volumes_[{start, kUsualCluster}].push_back({{grid, false, std::nullopt}, 0, 1024, {}, {}, 0});
    }
  }

  // `before`: how many volumes of the same layout there are already.
  void finish(Draft& draft, size_t before) {
    draft.settle();
    const bool header = draft.layout.geometry.has_value();
    if (!header && !draft.records.empty() && draft.records.size() < kLeastRecords) return;
    Geometry geometry = header ? *draft.layout.geometry : geometry_of(draft);
    // What tells them apart on the shelf.
    if (before > 0) geometry.serial += fmt::format("+{}", before);
    geometry.record_size = draft.record_size;
    geometry.confidence = kRules.confidence(header, draft.pins > 1, draft.records.size());
    geometry.notes = {note(draft.records.size(), header)};
    geometry.has_clusters = draft.layout.is_told;
    if (!geometry.has_clusters && !draft.records.empty()) {
      geometry.notes.emplace_back(
          "Nothing tells where its clusters lie: of files that do not fit into their records, only "
          "names and sizes come back.");
    }
    if (free_.left_out() > 0) {
      geometry.notes.push_back(
          fmt::format("{} index blocks and pages of journals more than can be read were found.",
                      free_.left_out()));
    }
    const ByteRange where{draft.layout.grid.start, geometry.volume_size};
    uint64_t foreseen = 0;
    Found found;
    found.names = names_in(where, foreseen);
    found.records = table_of(draft, foreseen);
    assembled_.push_back(
        {make_reader({scene_.source, where, scene_.options}, geometry, std::move(found)), false});
  }

  Geometry geometry_of(const Draft& draft) const {
    const Grid& grid = draft.layout.grid;
    Geometry geometry;
    geometry.cluster_size = static_cast<uint32_t>(grid.unit_size);
    geometry.sector_size = std::min(geometry.cluster_size, scene_.source->sector_size());
    geometry.volume_size = (end_of(draft) - grid.start) / grid.unit_size * grid.unit_size;
    return geometry;
  }

  static std::string note(size_t records, bool header) {
    if (records == 0) {
      return "None of its records was found: names and sizes come from the indexes of folders and "
             "from journals, contents are not known.";
    }
    return fmt::format("It was put together from {} records of $MFT{}.", records,
                       header ? "" : "; what they say of each other tells its layout");
  }

  // What names files in a volume. `foreseen`: set to how many records its table had, by that.
  std::vector<FoundNames> names_in(const ByteRange& where, uint64_t& foreseen) const {
    std::vector<FoundNames> found;
    uint64_t numbers = 0;  // of records that blocks and pages speak of
    const auto add = [&](FoundNames names, uint64_t records) {
      if (overlap(names.range, where).length != names.range.length) return;
      names.only = is_only_volume(names.range);
      // A journal tells of old names as well: where it disagrees says little.
      names.sure = names.only && names.kind != FoundNames::Kind::index_block;
      numbers = std::max(numbers, std::min(records, kMostNumber));
      found.push_back(names);
    };
    for (const auto& [folder, blocks] : free_.blocks()) {
      const uint64_t records = std::min<uint64_t>(folder + 1, kMostNumber) * kRoom;
      for (const FreeNames::Block& block : blocks) add(block.names, records);
    }
    for (const FreeNames::Pages& pages : free_.pages()) add(pages.names, pages.records);
    foreseen = std::min(numbers, kForeseen + kForeseenEach * found.size());
    return found;
  }

  // The table as the records lie in it. References to records behind the last one that was found
  // are references all the same.
  static Pieces table_of(const Draft& draft, uint64_t foreseen) {
    Pieces table;
    uint64_t total = 0;  // bytes
    for (const Placed& record : draft.records) {
      const uint64_t at = record.number * draft.record_size;
      append_piece(table, {Piece::Kind::unknown, 0, at - total});
      append_piece(table, {Piece::Kind::range, record.place, draft.record_size});
      total = at + draft.record_size;
    }
    const uint64_t most = foreseen * draft.record_size;
    if (most > total) append_piece(table, {Piece::Kind::unknown, 0, most - total});
    return table;
  }

  // Whether no other volume that was put together covers what names files.
  bool is_only_volume(const ByteRange& names) const {
    size_t covering = 0;
    for (const auto& [key, drafts] : volumes_) {
      for (const Draft& draft : drafts) {
        covering += key.first <= names.offset && end_of(draft) >= names.end();
      }
    }
    return covering == 1;
  }

  uint64_t end_of(const Draft& draft) const {
    return std::min(std::max(scene_.end_around(draft.layout.grid.start), draft.end),
                    scene_.source->size());
  }

  const Scene& scene_;
  const Layouts layouts_;
  FreeNames free_;
  Fragments found_;
  std::vector<Candidate> headers_;
  std::map<std::pair<uint64_t, uint64_t>, std::vector<Draft>> volumes_;  // by start, cluster size
  std::vector<Assembled> assembled_;
  size_t drafts_ = 0;
  std::optional<std::optional<VotedGrid>> by_tables_;  // what table pins alone vote for
};

}  // namespace
}  // namespace undershelf::ntfs

std::vector<undershelf::Assembled> undershelf::assemble(Ntfs, const Scene& scene) {
  return ntfs::Assembler(scene).run();
}
