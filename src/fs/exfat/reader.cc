#include "fs/exfat/reader.h"

#include <fmt/format.h>

#include <algorithm>
#include <boost/endian/conversion.hpp>
#include <deque>
#include <utility>

#include "fs/bitmap_reader.h"
#include "fs/exfat/continuations.h"
#include "fs/exfat/entries.h"
#include "fs/exfat/folder.h"
#include "fs/exfat/streams.h"
#include "fs/pieces_source.h"
#include "model/text.h"

namespace undershelf::exfat {
namespace {

constexpr size_t kEntrySize = sizeof(DirectoryEntry);

using Content = chained::FolderBytes<DirectoryEntry>;

// A folder that is still to be read.
struct Site {
  Entry entry;                     // pushed once its clusters are known
  std::vector<VolumeRange> where;  // bytes in the volume
  uint32_t first = 0;
  bool live = false;
};

class Reader : public BitmapReader {
 public:
  Reader(const VolumePlace& place, Geometry geometry, Found found)
      : source_(place.source),
        geometry_(std::move(geometry)),
        heap_(source_, place.where, geometry_),
        streams_(geometry_, heap_, [this](const VolumeRange& range) { return is_used(range); }),
        zone_(place.options.zone),
        found_(std::move(found)),
        clusters_(heap_.volume(), geometry_, upcase_, found_.folders, [this](uint32_t cluster) {
          return bitmap_ && !is_used(heap_.range_of(cluster));
        }) {
    describe();
  }

  void read(Sink& sink) override {
    sink_ = &sink;
    heap_.begin(sink);
    streams_.forget_flag();
    clusters_.clear();
    ends_.clear();
    chained_.clear();
    if (!found_.former) push_own_files();
    if (geometry_.root_cluster != 0) read_root();
    read_queued();
    clusters_.settle();
    read_tails();
    read_found();
    push_chained();
    if (!found_.former) heap_.report_lost_chains();
  }

 private:
  // Whether any of a range (bytes of the volume) is in use.
  bool is_used(const VolumeRange& range) { return next_used(heap_.on_space(range)).length > 0; }

  void read_root() {
    Site root;
    root.where = root_ranges();
    root.live = !found_.former;
    // Without its chain the root goes on as far as the clusters behind it do.
    if (found_.former) {
      root.where =
          geometry_.ranges_of(clusters_.follow(geometry_.root_cluster, most_folder_clusters()));
    }
    mark_covered(root.where);
    const Content content = load(root.where);
    take_sets(content, parse_folder(content.entries, upcase_), root);
    if (root.live) note_end(root, content);
  }

  // Lost files of several clusters that had a chain. Where drivers set NoFatChain for files that
  // lie in one piece, those lay in several.
  void push_chained() {
    for (Entry& entry : chained_) {
      Stream& stream = entry.streams.front();
      stream.scattered = streams_.flag_is_used() && stream.pieces.empty();
      sink_->add(entry);
    }
    chained_.clear();
  }

  void read_queued() {
    // Living folders first: their clusters are theirs, whatever old entries say.
    while (!live_.empty() || !deleted_.empty()) {
      auto& queue = live_.empty() ? deleted_ : live_;
      Site site = std::move(queue.front());
      queue.pop_front();
      read_site(std::move(site));
    }
  }

  // Folders that a sweep found. Those that another one names come after it.
  void read_found() {
    for (const bool only_nameless : {true, false}) {
      for (const uint32_t cluster : found_.folders) {
        if (clusters_.is_taken(cluster) || (only_nameless && clusters_.is_named(cluster))) continue;
        read_nameless(cluster);
        read_queued();
      }
    }
  }

  void read_nameless(uint32_t cluster) {
    Site site;
    site.first = cluster;
    site.live = !found_.former && is_used(heap_.range_of(cluster));
    site.where = geometry_.ranges_of(clusters_.follow(cluster, most_folder_clusters()));
    clusters_.begin(cluster);
    // No entry lies where its key says.
    site.entry = heap_.nameless_folder(cluster, geometry_.offset_of(cluster) + 1);
    if (site.live) site.entry.state = State::live;
    site.entry.orphan = true;
    read_site(std::move(site));
  }

  uint64_t most_folder_clusters() const { return kMostFolderBytes / geometry_.cluster_size + 1; }

  void mark_covered(const std::vector<VolumeRange>& where) {
    for (const VolumeRange& range : where) {
      clusters_.take(geometry_.cluster_at(range.offset), range.length / geometry_.cluster_size);
    }
  }

  // What of a folder's clusters no other folder has: each cluster is read for one folder only.
  std::vector<VolumeRange> not_covered(const std::vector<VolumeRange>& where) const {
    std::vector<VolumeRange> left;
    for (const VolumeRange& range : where) {
      for (uint64_t at = range.offset; at < range.end(); at += geometry_.cluster_size) {
        if (clusters_.is_taken(geometry_.cluster_at(at))) continue;
        if (!left.empty() && left.back().end() == at) {
          left.back().length += geometry_.cluster_size;
        } else {
          left.push_back({at, geometry_.cluster_size});
        }
      }
    }
    return left;
  }

  void describe() {
    volume_ = geometry_.volume_at(heap_.base());
    volume_.file_system = "exfat";
    volume_.structures = {heap_.on_space({0, 2ULL * kBootRegionSectors * geometry_.sector_size}),
                          heap_.on_space({geometry_.fat_offset, geometry_.fat_size})};
    if (geometry_.root_cluster != 0 && !found_.former) {
      for (const VolumeRange& range : root_ranges()) {
        volume_.structures.push_back(heap_.on_space(range));
      }
    }
    const Content root =
        load(geometry_.root_cluster == 0 ? std::vector<VolumeRange>{} : root_ranges());
    const FolderContent content = parse_folder(root.entries, upcase_);
    if (content.label) volume_.label = name_from_utf16(*content.label).text;
    if (found_.former) return;
    for (const DirectoryEntry& entry : content.bitmaps) {
      const bool second = (entry.CustomDefined[0] & 1) != 0;
      if (second != geometry_.second_bitmap && content.bitmaps.size() > 1) continue;
      own_files_.push_back(own_file("[allocation bitmap]", 1, entry));
      bitmap_.emplace(open(own_files_.back().streams[0]), volume_.heap(), geometry_.cluster_size,
                      BitOrder::least_first);
    }
    if (!bitmap_) {
      volume_.notes.emplace_back("The allocation bitmap is lost.");
      volume_.confidence = std::max(10, volume_.confidence - 20);
    }
    if (content.upcase) {
      own_files_.push_back(own_file("[up-case table]", 2, *content.upcase));
      constexpr uint64_t kMostTable = 128 << 10;
      const SourcePtr table = open(own_files_.back().streams[0]);
      std::vector<std::byte> bytes(std::min(table->size(), kMostTable));
      if (table->read(0, bytes).ok() && is_sound(bytes, *content.upcase)) {
        upcase_ = UpcaseTable(bytes);
      }
    }
  }

  // Section 7.2.2, TableChecksum.
  static bool is_sound(std::span<const std::byte> table, const DirectoryEntry& entry) {
    uint32_t sum = 0;
    for (const std::byte byte : table) {
      sum = (sum << 31 | sum >> 1) + std::to_integer<uint32_t>(byte);
    }
    return sum == boost::endian::load_little_u32(entry.CustomDefined + 3);
  }

  // A file of the file system's own, as the root names it.
  Entry own_file(const char* name, uint64_t key, const DirectoryEntry& found) {
    Entry entry;
    entry.key = key;
    entry.system = true;
    entry.name = {name, {}, false};
    Stream stream;
    stream.size = stream.valid_size =
        std::min<uint64_t>(found.DataLength.value(), geometry_.volume_size);
    stream.placement = Placement::exact;
    const uint64_t clusters = geometry_.clusters_of(stream.size);
    Chain chain = streams_.chain(found.FirstCluster.value(), clusters);
    if (chain.clusters < clusters) {
      // Without its chain it is taken to lie in one piece, as formatters lay it down.
      chain.runs = {{found.FirstCluster.value(), static_cast<uint32_t>(clusters)}};
    }
    heap_.add_pieces(stream, geometry_.ranges_of(chain.runs));
    entry.streams.push_back(std::move(stream));
    return entry;
  }

  SourcePtr open(const Stream& stream) const {
    return std::make_shared<PiecesSource>(source_, stream.pieces, stream.size);
  }

  void push_own_files() {
    for (const Entry& entry : own_files_) sink_->add(entry);
  }

  std::vector<VolumeRange> root_ranges() {
    Chain found =
        streams_.chain(geometry_.root_cluster, kMostFolderBytes / geometry_.cluster_size + 1);
    if (found.runs.empty()) found.runs = {{geometry_.root_cluster, 1}};
    return geometry_.ranges_of(found.runs);
  }

  Content load(const std::vector<VolumeRange>& where) const {
    return heap_.load_in_use<DirectoryEntry>(where);
  }

  void read_site(Site site) {
    const bool known = !site.where.empty();
    site.where = not_covered(site.where);
    if (known && site.where.empty()) site.entry.evidence.push_back({"folder-read-before", 0});
    const Content content = load(site.where);
    const FolderContent parsed = parse_folder(content.entries, upcase_);
    if (site.live || !parsed.sets.empty()) mark_covered(site.where);
    Stream stream;
    if (known) stream.first = heap_.place_of(site.first);
    // A deleted folder whose place holds no set any more may have been empty, or is overwritten.
    if (site.live || !parsed.sets.empty()) {
      stream.placement = Placement::exact;
      heap_.add_pieces(stream, site.where);
    } else if (!site.where.empty() && is_used({site.where.front().offset, 1})) {
      site.entry.evidence.push_back({"folder-replaced", 0});
    }
    site.entry.streams.push_back(std::move(stream));
    sink_->add(site.entry);
    take_sets(content, parsed, site);
    if (site.live) note_end(site, content);
  }

  // Keeps a folder that may go on behind what it has: its last cluster is full.
  void note_end(const Site& site, const Content& content) {
    if (content.entries.empty() || content.entries.back().EntryType == 0) return;
    ends_.push_back({geometry_.cluster_at(site.where.back().end() - 1), site});
  }

  // Some drivers give a folder's last clusters back once its last sets are deleted. They follow on
  // to what the folder has now, unless another folder has them.
  void read_tails() {
    for (const auto& [last, site] : std::exchange(ends_, {})) {
      const std::vector<Run> runs = clusters_.follow(last, most_folder_clusters());
      if (runs.size() == 1 && runs.front().count == 1) continue;
      std::vector<VolumeRange> where = geometry_.ranges_of(runs);
      mark_covered(where);
      // What the folder's own last cluster holds was read; a set that is cut at its end was not.
      const uint64_t cut = cut_set(clusters_.entries_at(last, geometry_.cluster_size)) * kEntrySize;
      where.front().offset += geometry_.cluster_size - cut;
      where.front().length -= geometry_.cluster_size - cut;
      std::erase_if(where, [](const VolumeRange& range) { return range.length == 0; });
      Site tail = site;
      tail.live = false;
      const Content content = load(where);
      take_sets(content, parse_folder(content.entries, upcase_), tail);
      read_queued();
    }
  }

  void take_sets(const Content& content, const FolderContent& parsed, const Site& site) {
    const bool is_root = site.first == 0;
    if (parsed.broken > 0 && site.live) {
      heap_.damage({content.parts.front().offset, 0},
                   fmt::format("{} entry sets in {} are damaged.", parsed.broken,
                               is_root ? "the root folder" : "the folder " + site.entry.name.text));
    }
    for (const EntrySet& set : parsed.sets) {
      const State state = site.live && set.in_use ? State::live : State::deleted;
      Entry entry = entry_from(set, content.offset_of(set.slot), state, zone_);
      if (!is_root) entry.parent = site.entry.key;
      if (set.folder()) {
        take_subfolder(set, std::move(entry));
      } else {
        entry.streams.push_back(streams_.of_file(set, entry));
        if (entry.streams.back().open && set.stream.DataLength.value() > geometry_.cluster_size) {
          chained_.push_back(std::move(entry));
        } else {
          sink_->add(entry);
        }
      }
    }
  }

  void take_subfolder(const EntrySet& set, Entry entry) {
    const uint32_t first = set.stream.FirstCluster.value();
    const bool live = entry.state == State::live;
    const bool valid = geometry_.is_cluster(first);
    if (!valid || !clusters_.begin(first)) {
      heap_.refuse_folder(entry, first);
      Stream stream;
      if (valid) stream.first = heap_.place_of(first);
      entry.streams.push_back(std::move(stream));
      sink_->add(entry);
      return;
    }
    Site site;
    site.first = first;
    site.live = live;
    const uint64_t size = std::min(set.stream.DataLength.value(), kMostFolderBytes);
    const uint64_t wanted = std::max<uint64_t>(1, geometry_.clusters_of(size));
    std::vector<Run> runs{{first, static_cast<uint32_t>(wanted)}};
    if (!set.contiguous()) {
      const Chain found = streams_.chain(first, wanted);
      // Without a chain the clusters are taken to follow each other: what is in them verifies
      // itself.
      if (found.clusters > 0 && (live || streams_.is_free(found))) {
        runs = found.runs;
      } else if (!found_.folders.empty()) {
        runs = clusters_.follow(first, wanted);
      }
    }
    site.where = geometry_.ranges_of(runs);
    site.entry = std::move(entry);
    (live ? live_ : deleted_).push_back(std::move(site));
  }

  SourcePtr source_;
  const Geometry geometry_;
  chained::Heap heap_;
  StreamMaker streams_;
  Zone zone_;
  UpcaseTable upcase_;
  std::vector<Entry> own_files_;
  std::deque<Site> live_, deleted_;
  std::vector<std::pair<uint32_t, Site>> ends_;  // living folders, with their last clusters
  std::vector<Entry> chained_;                   // see push_chained
  Found found_;
  Continuations clusters_;  // that were read, and what goes on which folder
};

}  // namespace

std::unique_ptr<VolumeReader> make_reader(const VolumePlace& place, const Geometry& geometry,
                                          Found found) {
  return std::make_unique<Reader>(place, geometry, std::move(found));
}

}  // namespace undershelf::exfat
