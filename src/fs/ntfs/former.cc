#include "fs/ntfs/former.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>
#include <unordered_map>

#include "content/types.h"
#include "fs/ntfs/detector.h"
#include "fs/ntfs/file.h"
#include "fs/ntfs/free_names.h"
#include "fs/ntfs/reader.h"
#include "fs/votes.h"
#include "model/text.h"

namespace undershelf::ntfs {
namespace {

constexpr size_t kMostVolumes = 64;
constexpr size_t kMostDrafts = 256;
constexpr size_t kLeastRecords = 4;         // fewer, with no header, are not taken for a volume
constexpr uint64_t kMostNumber = 16 << 20;  // of a record, unless very many were found
constexpr size_t kLeastBlocks = 2;          // of an index, or pages of a journal, likewise
constexpr uint64_t kUsualCluster = 4096;    // bytes; where nothing tells and nothing depends on it
constexpr uint64_t kMirrored = 4;           // records of which $MFTMirr has copies
constexpr uint64_t kRoom = 4;  // records are foreseen for so many times the highest folder
// but no more than that, and so many for each block and page: one stray number foresees nothing.
constexpr uint64_t kForeseen = 1 << 20, kForeseenEach = 1024;
constexpr size_t kMostFiles = 20'000;  // looked at for their format, of each fragment
constexpr uint64_t kLeastCluster = 512, kMostCluster = 2 << 20;  // bytes

// A FILE record that nothing in use holds.
struct Placed {
  uint64_t number;
  uint64_t place;                 // byte of the source
  std::optional<Time> made = {};  // when its file got its name
};

// Records that lie as one table has them: the first one, number 0, would lie at `base`.
struct Fragment {
  int64_t base = 0;  // byte of the source; may lie before it
  uint32_t record_size = 0;
  std::vector<Placed> records;  // by number
  // What its records tell of the volume.
  std::vector<Pin> pins;         // cluster numbers with places, as index blocks show
  std::vector<KnownFile> files;  // whose content does not lie in their records
};

// A layout that something speaks for.
struct Candidate {
  Grid grid;
  std::optional<Geometry> geometry;  // of a boot sector
  size_t pins = 0;
};

// The cluster numbers of an attribute's first run, from VCN 0 on.
std::optional<ByteRange> first_run(const Attribute& attribute) {
  const auto part = attribute.non_resident();
  if (!part || part->lowest_vcn.value() != 0) return std::nullopt;
  // Decoded in units of one byte, places are cluster numbers.
  const Runs runs = decode_runs(attribute, *part, {0, 1, 1ULL << 62});
  if (runs.pieces.empty() || runs.pieces[0].kind != Piece::Kind::range) return std::nullopt;
  return ByteRange{runs.pieces[0].offset, runs.pieces[0].length};
}

class Assembler {
 public:
  explicit Assembler(const Scene& scene) : scene_(scene), free_(scene) {}

  std::vector<Assembled> run() {
    take_headers();
    gather();
    for (Fragment& fragment : fragments_) study(fragment);
    std::vector<Fragment> whole = split_generations();
    std::ranges::stable_sort(
        whole, [](const auto& a, const auto& b) { return a.records.size() > b.records.size(); });
    for (Fragment& fragment : whole) {
      if (!is_mirror(fragment)) place(std::move(fragment));
    }
    for (const Fragment& fragment : whole) {
      if (!fragment.records.empty() && is_mirror(fragment)) add_mirror(fragment);
    }
    if (volumes_.empty()) add_nameless_tables();
    for (auto& [key, drafts] : volumes_) {
      for (size_t i = 0; i < drafts.size(); ++i) finish(drafts[i], i);
    }
    for (Assembled& more : free_.of_present()) assembled_.push_back(std::move(more));
    return std::move(assembled_);
  }

 private:
  struct Draft {
    Candidate layout;
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
  };

  // Boot sectors, and what their backups stand for, tell layouts; whether anything of the volume is
  // left is seen later.
  void take_headers() {
    for (const Trace& trace : thinned(scene_.of_kind(kHeaderTrace), kMostHeaders)) {
      BootSector boot{};
      if (scene_.is_held(trace.range()) ||
          !scene_.source->read(trace.offset, std::as_writable_bytes(std::span(&boot, 1))).ok()) {
        continue;
      }
      const auto geometry = from_fields(boot);
      const bool known = scene_.is_current(trace.number, "ntfs");
      if (geometry && !known && layouts_.size() < kMostVolumes) {
        layouts_.push_back({{trace.number, geometry->cluster_size}, geometry, 0});
      }
    }
  }

  // Sorts records into fragments.
  void gather() {
    std::map<std::pair<int64_t, uint32_t>, size_t> by_base;
    const std::span<const Trace> runs = scene_.of_kind(kRecords);
    for (const Trace& run : runs) total_ += run.length / run.other;
    const uint64_t most_number = std::max<uint64_t>(kMostNumber, 8 * total_);
    for (const Trace& run : runs) {
      if (run.number == kNoNumber) continue;
      const auto size = static_cast<uint32_t>(run.other);
      for (uint64_t i = 0; i < run.length / size; ++i) {
        const Placed record{run.number + i, run.offset + i * size};
        if (record.number >= most_number || scene_.is_held({record.place, size})) continue;
        const auto base =
            static_cast<int64_t>(record.place) - static_cast<int64_t>(record.number * size);
        const auto [known, fresh] = by_base.try_emplace({base, size}, fragments_.size());
        if (fresh) {
          fragments_.emplace_back();
          fragments_.back().base = base;
          fragments_.back().record_size = size;
        }
        fragments_[known->second].records.push_back(record);
      }
    }
  }

  // Reads the records of a fragment for what they tell of the layout.
  void study(Fragment& fragment) {
    std::vector<std::byte> bytes(fragment.record_size);
    for (Placed& found : fragment.records) {
      if (!scene_.source->read(found.place, bytes).ok()) continue;
      const std::optional<Record> record = parse_record(bytes);
      if (!record) continue;
      std::string name;
      each_attribute(*record, [&](const Attribute& attribute) {
        if (attribute.type() == kFileName) {
          const auto found_name = parse_file_name(attribute.value());
          if (!found_name) return;
          found.made = found_name->created;
          if (found_name->name_space != kDos) name = to_utf8(found_name->text);
        } else if (attribute.type() == kIndexAllocation && attribute.name == u"$I30") {
          add_pins(fragment, found.number, attribute);
        } else if (attribute.type() == kData && attribute.name.empty()) {
          add_data(fragment, found, name, attribute);
        }
      });
    }
  }

  // A folder's run list says in clusters where its blocks lie; each block says whose it is.
  void add_pins(Fragment& fragment, uint64_t folder, const Attribute& attribute) {
    const auto blocks = free_.blocks().find(folder);
    const std::optional<ByteRange> run = first_run(attribute);
    if (!run || blocks == free_.blocks().end()) return;
    for (const FreeNames::Block& block : blocks->second) {
      if (block.vcn < run->length) {
        fragment.pins.push_back({run->offset + block.vcn, block.names.range.offset});
      }
    }
  }

  void add_data(Fragment& fragment, const Placed& record, const std::string& name,
                const Attribute& attribute) {
    const std::optional<ByteRange> run = first_run(attribute);
    if (!run) return;
    // The records of $MFT and $MFTMirr say where each begins. Which of the two this record lies in
    // is not known: of both readings, only the true one agrees with others.
    if ((record.number == kMft && name == "$MFT") ||
        (record.number == kMftMirr && name == "$MFTMirr")) {
      if (fragment.base >= 0) {
        table_pins_.push_back({run->offset, static_cast<uint64_t>(fragment.base)});
      }
      return;
    }
    const Format& format = format_by_name(name);
    if (!format.magic.empty() && fragment.files.size() < kMostFiles) {
      fragment.files.push_back({run->offset, &format});
    }
  }

  // A table that was made anew over the beginning of an older one of the same place: its records
  // are all younger than those behind them. (Within one life, records with higher numbers are.)
  std::vector<Fragment> split_generations() {
    constexpr size_t kLeast = 3;  // records with a time, on either side
    std::vector<Fragment> whole;
    for (Fragment& fragment : fragments_) {
      const size_t count = fragment.records.size();
      std::vector<Time> oldest_before(count + 1, Time{INT64_MAX});
      std::vector<size_t> timed(count + 1, 0);
      for (size_t i = 0; i < count; ++i) {
        const std::optional<Time>& made = fragment.records[i].made;
        oldest_before[i + 1] = std::min(oldest_before[i], made.value_or(Time{INT64_MAX}));
        timed[i + 1] = timed[i] + made.has_value();
      }
      Time youngest{INT64_MIN};
      size_t cut = 0;
      for (size_t i = count; i-- > 1;) {
        const std::optional<Time>& made = fragment.records[i].made;
        if (made) youngest = std::max(youngest, *made);
        const bool enough = timed[i] >= kLeast && timed[count] - timed[i] >= kLeast;
        if (enough && made && youngest < oldest_before[i]) cut = i;
      }
      if (cut == 0) {
        whole.push_back(std::move(fragment));
        continue;
      }
      Fragment older;
      older.base = fragment.base;
      older.record_size = fragment.record_size;
      older.records.assign(fragment.records.begin() + static_cast<ptrdiff_t>(cut),
                           fragment.records.end());
      fragment.records.resize(cut);
      study_again(fragment);
      study_again(older);
      whole.push_back(std::move(fragment));
      whole.push_back(std::move(older));
    }
    return whole;
  }

  void study_again(Fragment& fragment) {
    fragment.pins.clear();
    fragment.files.clear();
    study(fragment);
  }

  // Gives a fragment to the volume whose layout it fits best.
  void place(Fragment fragment) {
    std::vector<Candidate> candidates = layouts_;
    const VotedGrid voted = most_voted(fragment.pins, kLeastCluster, kMostCluster);
    const uint64_t size = scene_.source->size();
    if (voted.votes >= votes_above_chance(fragment.pins.size(), size))
      candidates.push_back({voted.grid, std::nullopt, 0});
    // One that tells of no place itself adds nothing to what tables tell; they speak once.
    if (!fragment.pins.empty() || !by_tables_) {
      std::vector<Pin> all_pins = fragment.pins;
      all_pins.insert(all_pins.end(), table_pins_.begin(), table_pins_.end());
      const VotedGrid by_tables = most_voted(all_pins, kLeastCluster, kMostCluster);
      const bool enough = by_tables.votes >= votes_above_chance(all_pins.size(), size);
      if (enough) candidates.push_back({by_tables.grid, std::nullopt, 0});
      if (fragment.pins.empty()) by_tables_.emplace(enough ? by_tables.grid : Grid{});
    } else if (by_tables_->unit_size > 0) {
      candidates.push_back({*by_tables_, std::nullopt, 0});
    }
    // A single file agrees with no other.
    if (fragment.files.size() > 1) {
      const std::vector<Pin> contents = content_pins(fragment.files, scene_.contents);
      const VotedGrid by_content = most_voted(contents, kLeastCluster, kMostCluster);
      if (by_content.votes >= votes_above_chance(contents.size(), size)) {
        candidates.push_back({by_content.grid, std::nullopt, 0});
      }
    }
    for (const uint64_t start : scene_.starts) {
      for (uint64_t cluster = kLeastCluster; cluster <= kMostCluster; cluster *= 2) {
        candidates.push_back({{start, cluster}, std::nullopt, 0});
      }
    }
    const Candidate* best = nullptr;
    int most = 0;
    for (Candidate& candidate : candidates) {
      const int score = merit(fragment, candidate);
      if (score > most) {
        most = score;
        best = &candidate;
      }
    }
    // A fragment that tells nothing of its layout goes with the others that have its base, or with
    // the only volume there is.
    if (best == nullptr) {
      leftover(std::move(fragment));
      return;
    }
    Candidate chosen = *best;
    chosen.pins = pins_on(fragment, chosen.grid);
    join(chosen, std::move(fragment));
  }

  size_t pins_on(const Fragment& fragment, const Grid& grid) const {
    std::set<uint64_t> units;
    for (const Pin& pin : table_pins_) {
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
    constexpr int kPin = 10;
    constexpr int kHeader = 3;
    // Records lie in whole clusters, or clusters in whole records.
    const int64_t first = static_cast<int64_t>(fragment.records.front().place) -
                          static_cast<int64_t>(candidate.grid.start);
    if (first < 0 || first % 512 != 0) return 0;
    const int proofs =
        kPin * static_cast<int>(std::min<size_t>(1000, pins_on(fragment, candidate.grid))) +
        std::max(0, score_by_content(*scene_.source, candidate.grid, fragment.files));
    const bool has_header =
        candidate.geometry && candidate.geometry->record_size == fragment.record_size;
    // A header alone speaks for a table that lies where it says.
    const bool at_header =
        has_header && fragment.base == static_cast<int64_t>(candidate.grid.start +
                                                            candidate.geometry->mft_offset);
    return proofs > 0 ? proofs + kHeader * has_header : at_header ? 1 : 0;
  }

  void join(const Candidate& layout, Fragment fragment) {
    auto& drafts = volumes_[{layout.grid.start, layout.grid.unit_size}];
    for (Draft& draft : drafts) {
      if (draft.record_size != fragment.record_size || overlaps(draft, fragment)) continue;
      draft.add(fragment.records);
      draft.layout.pins += layout.pins;
      if (!draft.layout.geometry) draft.layout.geometry = layout.geometry;
      return;
    }
    // The longest fragments came first.
    if (++drafts_ > kMostDrafts) return;
    drafts.push_back({layout, fragment.record_size, {}, {}, 0});
    drafts.back().add(fragment.records);
  }

  // Whether both have records of the same numbers, and these are other files': then they are two
  // volumes. A table that was moved leaves copies, and so does the mirror, which is longer where
  // clusters are large.
  static bool overlaps(const Draft& draft, const Fragment& fragment) {
    size_t others = 0;
    for (const Placed& record : fragment.records) {
      const auto known = draft.made.find(record.number);
      others += known != draft.made.end() && known->second != record.made;
    }
    return others > 0 && others * 10 > std::min(draft.made.size(), fragment.records.size());
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
      const bool agrees = std::ranges::any_of(table_pins_, [&](const Pin& pin) {
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
      if (count_of >= kLeastBlocks)
        volumes_[{start, kUsualCluster}].push_back(
            {{{start, kUsualCluster}, {}, 0}, 1024, {}, {}, 0});
    }
  }

  void leftover(Fragment fragment) {
    // Single records may lie as a table's by chance, if there are very many.
    const size_t least = std::max(kLeastRecords, votes_above_chance(total_, scene_.source->size()));
    if (fragment.records.size() < least) return;
    Candidate layout;
    for (const auto& [key, drafts] : volumes_) {
      for (const Draft& draft : drafts) {
        if (draft.record_size == fragment.record_size && !overlaps(draft, fragment)) {
          layout = draft.layout;
          return join(layout, std::move(fragment));
        }
      }
    }
    // Names, and what lies in the records themselves, come back all the same.
    layout.grid = {scene_.start_before(fragment.records.front().place + 1), kUsualCluster};
    join(layout, std::move(fragment));
  }

  // `before`: how many volumes of the same layout there are already.
  void finish(Draft& draft, size_t before) {
    // Of copies, the one in the longer run of records stays.
    std::ranges::stable_sort(draft.records, {}, &Placed::number);
    draft.records.erase(
        std::unique(draft.records.begin(), draft.records.end(),
                    [](const Placed& a, const Placed& b) { return a.number == b.number; }),
        draft.records.end());
    const bool header = draft.layout.geometry.has_value();
    if (!header && !draft.records.empty() && draft.records.size() < kLeastRecords) return;
    const Grid& grid = draft.layout.grid;
    Geometry geometry = draft.layout.geometry.value_or(Geometry{});
    if (!header) {
      geometry.cluster_size = static_cast<uint32_t>(grid.unit_size);
      geometry.sector_size = std::min(geometry.cluster_size, scene_.source->sector_size());
      geometry.volume_size = (end_of(draft) - grid.start) / grid.unit_size * grid.unit_size;
    }
    // What tells them apart on the shelf.
    if (before > 0) geometry.serial += fmt::format("+{}", before);
    geometry.record_size = draft.record_size;
    const int evidence = static_cast<int>(std::min<size_t>(draft.records.size(), 1000));
    geometry.confidence = std::min(90, 30 + 10 * header + 10 * (draft.layout.pins > 1) +
                                           (evidence >= 100 ? 30 : evidence * 30 / 100));
    geometry.notes = {
        draft.records.empty()
            ? "None of its records was found: names and sizes come from the indexes of folders and "
              "from journals, contents are not known."
            : fmt::format("It was put together from {} records of $MFT{}.", draft.records.size(),
                          header ? "" : "; what they say of each other tells its layout")};
    const ByteRange where{grid.start, geometry.volume_size};
    Found found;
    uint64_t numbers = 0;  // of records that blocks and pages speak of
    const auto add = [&](FoundNames names, uint64_t records) {
      if (overlap(names.range, where).length != names.range.length) return;
      names.only = is_only_volume(names.range);
      // A journal tells of old names as well: where it disagrees says little.
      names.sure = names.only && names.kind != FoundNames::Kind::index_block;
      numbers = std::max(numbers, std::min(records, kMostNumber));
      found.names.push_back(names);
    };
    for (const auto& [folder, blocks] : free_.blocks()) {
      const uint64_t foreseen = std::min<uint64_t>(folder + 1, kMostNumber) * kRoom;
      for (const FreeNames::Block& block : blocks) add(block.names, foreseen);
    }
    for (const FreeNames::Pages& pages : free_.pages()) add(pages.names, pages.records);
    if (free_.left_out() > 0) {
      geometry.notes.push_back(
          fmt::format("{} index blocks and pages of journals more than can be read were found.",
                      free_.left_out()));
    }
    uint64_t total = 0;  // bytes of the table
    for (const Placed& record : draft.records) {
      const uint64_t at = record.number * draft.record_size;
      append_piece(found.records, {Piece::Kind::unknown, 0, at - total});
      append_piece(found.records, {Piece::Kind::range, record.place, draft.record_size});
      total = at + draft.record_size;
    }
    // References to records behind the last one that was found are references all the same.
    const uint64_t foreseen = std::min(numbers, kForeseen + kForeseenEach * found.names.size());
    const uint64_t most = foreseen * draft.record_size;
    if (most > total) append_piece(found.records, {Piece::Kind::unknown, 0, most - total});
    assembled_.push_back({make_reader(scene_.source, where, geometry, std::move(found)), false});
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
  FreeNames free_;
  std::vector<Candidate> layouts_;
  std::vector<Pin> table_pins_;  // where tables and their mirrors may begin
  std::vector<Fragment> fragments_;
  std::map<std::pair<uint64_t, uint64_t>, std::vector<Draft>> volumes_;  // by start, cluster size
  std::vector<Assembled> assembled_;
  size_t total_ = 0;  // records found
  size_t drafts_ = 0;
  std::optional<Grid> by_tables_;  // that table pins alone vote for; unit size 0: none
};

}  // namespace

std::vector<Assembled> assemble(const Scene& scene) { return Assembler(scene).run(); }

}  // namespace undershelf::ntfs
