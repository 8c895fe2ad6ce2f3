#include "fs/exfat/reader.h"

#include <fmt/format.h>

#include <algorithm>
#include <boost/endian/conversion.hpp>
#include <deque>
#include <utility>

#include "fs/bitmap.h"
#include "fs/chained/folder_bytes.h"
#include "fs/exfat/continuations.h"
#include "fs/exfat/entries.h"
#include "fs/exfat/folder.h"
#include "fs/exfat/geometry.h"
#include "fs/pieces_source.h"
#include "model/text.h"

namespace undershelf::exfat {
namespace {

constexpr size_t kEntrySize = sizeof(DirectoryEntry);

using Content = chained::FolderBytes<DirectoryEntry>;

// A folder that is still to be read.
struct Site {
  Entry entry;                   // pushed once its clusters are known
  std::vector<ByteRange> where;  // bytes in the volume
  uint32_t first = 0;
  bool live = false;
};

class Reader : public VolumeReader {
 public:
  Reader(const SourcePtr& source, const ByteRange& where, Geometry geometry,
         const ReadOptions& options, Found found)
      : source_(source),
        window_(std::make_shared<Window>(source, where.offset, where.length)),
        base_(where.offset),
        geometry_(std::move(geometry)),
        table_(window_),
        zone_(options.zone),
        found_(std::move(found)),
        clusters_(window_, geometry_, upcase_, found_.folders, [this](uint32_t cluster) {
          return bitmap_ && next_used({base_ + geometry_.offset_of(cluster), 1}).length == 0;
        }) {
    describe();
  }

  const Volume& volume() const override { return volume_; }

  ByteRange next_used(const ByteRange& within) override {
    return bitmap_ ? bitmap_->next_used(within) : ByteRange{};
  }

  void read(Sink& sink) override {
    sink_ = &sink;
    clusters_.clear();
    ends_.clear();
    chained_.clear();
    flag_is_used_ = false;
    if (!found_.former) push_own_files();
    if (geometry_.root_cluster != 0) read_root();
    read_queued();
    clusters_.settle();
    read_tails();
    read_found();
    push_chained();
  }

 private:
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
      stream.scattered = flag_is_used_ && stream.pieces.empty();
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
    site.live = !found_.former && next_used({base_ + geometry_.offset_of(cluster), 1}).length > 0;
    site.where = geometry_.ranges_of(clusters_.follow(cluster, most_folder_clusters()));
    clusters_.begin(cluster);
    Entry& entry = site.entry;
    entry.key = geometry_.offset_of(cluster) + 1;  // no entry lies there
    entry.kind = Kind::folder;
    entry.state = site.live ? State::live : State::deleted;
    entry.orphan = true;
    entry.name = {fmt::format("[folder {}]", cluster), {}, false};
    entry.evidence.push_back({"name-lost", 0});
    read_site(std::move(site));
  }

  uint64_t most_folder_clusters() const { return kMostFolderBytes / geometry_.cluster_size + 1; }

  void mark_covered(const std::vector<ByteRange>& where) {
    for (const ByteRange& range : where) {
      clusters_.take(geometry_.cluster_at(range.offset), range.length / geometry_.cluster_size);
    }
  }

  // What of a folder's clusters no other folder has: each cluster is read for one folder only.
  std::vector<ByteRange> not_covered(const std::vector<ByteRange>& where) const {
    std::vector<ByteRange> left;
    for (const ByteRange& range : where) {
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
    volume_ = geometry_.volume_at(base_);
    volume_.file_system = "exfat";
    volume_.structures = {{base_, 2ULL * kBootRegionSectors * geometry_.sector_size},
                          {base_ + geometry_.fat_offset, geometry_.fat_size}};
    if (geometry_.root_cluster != 0 && !found_.former) {
      for (const ByteRange& range : root_ranges()) {
        volume_.structures.push_back({base_ + range.offset, range.length});
      }
    }
    const Content root =
        load(geometry_.root_cluster == 0 ? std::vector<ByteRange>{} : root_ranges());
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
    Chain chain = this->chain(found.FirstCluster.value(), clusters);
    if (chain.clusters < clusters) {
      // Without its chain it is taken to lie in one piece, as formatters lay it down.
      chain.runs = {{found.FirstCluster.value(), static_cast<uint32_t>(clusters)}};
    }
    add_pieces(stream, geometry_.ranges_of(chain.runs));
    entry.streams.push_back(std::move(stream));
    return entry;
  }

  SourcePtr open(const Stream& stream) const {
    return std::make_shared<PiecesSource>(source_, stream.pieces, stream.size);
  }

  void push_own_files() {
    for (const Entry& entry : own_files_) sink_->add(entry);
  }

  Chain chain(uint32_t first, uint64_t most) {
    return follow_chain(first, most, geometry_.cluster_count, [&](uint32_t cluster) -> Link {
      if (uint64_t{cluster} * 4 + 4 > geometry_.fat_size) return {};
      std::array<std::byte, 4> bytes{};
      if (!table_.read(geometry_.fat_offset + uint64_t{cluster} * 4, bytes)) return {};
      const uint32_t value =
          boost::endian::load_little_u32(reinterpret_cast<unsigned char*>(bytes.data()));
      if (value == 0) return {Link::Kind::free, 0};
      if (value == kBadCluster) return {Link::Kind::bad, 0};
      return {value == kEndOfChain ? Link::Kind::end : Link::Kind::next, value};
    });
  }

  void add_pieces(Stream& stream, const std::vector<ByteRange>& where) const {
    chained::append_pieces(stream.pieces, where, base_);
  }

  std::vector<ByteRange> root_ranges() {
    Chain found = chain(geometry_.root_cluster, kMostFolderBytes / geometry_.cluster_size + 1);
    if (found.runs.empty()) found.runs = {{geometry_.root_cluster, 1}};
    return geometry_.ranges_of(found.runs);
  }

  Content load(const std::vector<ByteRange>& where) {
    Content content;
    for (const ByteRange& range : where) {
      for (const ByteRange& bad : content.append(*window_, range).bad) {
        if (sink_ != nullptr) {
          damage(bad, fmt::format("{} bytes of a folder cannot be read.", bad.length));
        }
      }
    }
    return content;
  }

  void damage(const ByteRange& in_volume, std::string what) {
    sink_->add(Damage{{base_ + in_volume.offset, in_volume.length}, std::move(what)});
  }

  void read_site(Site site) {
    const bool known = !site.where.empty();
    site.where = not_covered(site.where);
    if (known && site.where.empty()) site.entry.evidence.push_back({"folder-read-before", 0});
    const Content content = load(site.where);
    const FolderContent parsed = parse_folder(content.entries, upcase_);
    if (site.live || !parsed.sets.empty()) mark_covered(site.where);
    Stream stream;
    if (known) stream.first = base_ + geometry_.offset_of(site.first);
    // A deleted folder whose place holds no set any more may have been empty, or is overwritten.
    if (site.live || !parsed.sets.empty()) {
      stream.placement = Placement::exact;
      add_pieces(stream, site.where);
    } else if (is_used(site)) {
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
      std::vector<ByteRange> where = geometry_.ranges_of(runs);
      mark_covered(where);
      // What the folder's own last cluster holds was read; a set that is cut at its end was not.
      const uint64_t cut = cut_set(clusters_.entries_at(last, geometry_.cluster_size)) * kEntrySize;
      where.front().offset += geometry_.cluster_size - cut;
      where.front().length -= geometry_.cluster_size - cut;
      std::erase_if(where, [](const ByteRange& range) { return range.length == 0; });
      Site tail = site;
      tail.live = false;
      const Content content = load(where);
      take_sets(content, parse_folder(content.entries, upcase_), tail);
      read_queued();
    }
  }

  bool is_used(const Site& site) {
    return !site.where.empty() && next_used({base_ + site.where.front().offset, 1}).length > 0;
  }

  void take_sets(const Content& content, const FolderContent& parsed, const Site& site) {
    const bool is_root = site.first == 0;
    if (parsed.broken > 0 && site.live) {
      damage({content.parts.front().offset, 0},
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
        entry.streams.push_back(file_stream(set, entry));
        if (entry.streams.back().open && set.stream.DataLength.value() > geometry_.cluster_size) {
          chained_.push_back(std::move(entry));
        } else {
          sink_->add(entry);
        }
      }
    }
  }

  Stream file_stream(const EntrySet& set, Entry& entry) {
    Stream stream;
    stream.size = set.stream.DataLength.value();
    stream.valid_size = std::min(set.stream.ValidDataLength.value(), stream.size);
    const uint32_t first = set.stream.FirstCluster.value();
    if (stream.size == 0 && (first == 0 || entry.state == State::live)) {
      stream.placement = Placement::exact;
      return stream;
    }
    const uint64_t wanted = geometry_.clusters_of(stream.size);
    if (wanted > geometry_.cluster_count) {
      // No file is larger than its volume: the number is damaged.
      entry.evidence.push_back({"size-impossible", stream.size});
      stream.size = stream.valid_size = 0;
      stream.size_known = false;
      if (entry.state == State::live) {
        damage(
            {entry.key, kEntrySize},
            fmt::format("The size of the file {} is more than the volume holds.", entry.name.text));
      }
      return stream;
    }
    if (!geometry_.is_cluster(first)) {
      stream.valid_size = std::min(stream.valid_size, stream.size);
      append_piece(stream.pieces, {Piece::Kind::unknown, 0, stream.size});
      entry.evidence.push_back({"first-cluster-invalid", first});
      if (entry.state == State::live) {
        damage({entry.key, kEntrySize},
               fmt::format("The file {} lies where the volume has no clusters.", entry.name.text));
      }
      return stream;
    }
    stream.first = base_ + geometry_.offset_of(first);
    if (stream.size == 0) {
      entry.evidence.push_back({"size-lost", 0});
      stream.size_known = false;
    }
    if (set.contiguous()) {
      flag_is_used_ = flag_is_used_ || wanted > 1;
      place_contiguously(stream, entry, first, wanted);
    } else if (entry.state == State::live) {
      place_chain(stream, entry, first, wanted);
    } else {
      stream.open = true;
      const Chain left = chain(first, wanted);
      const bool whole = left.clusters == wanted &&
                         (left.end == Chain::End::marked || left.end == Chain::End::enough);
      if (whole && is_free(left)) add_pieces(stream, geometry_.ranges_of(left.runs));
    }
    return stream;
  }

  // Some drivers leave the chain of a deleted file in place: it holds as long as all of it is free.
  bool is_free(const Chain& left) {
    return std::ranges::none_of(geometry_.ranges_of(left.runs), [&](const ByteRange& range) {
      return next_used({base_ + range.offset, range.length}).length > 0;
    });
  }

  // The flag NoFatChain says that the clusters follow each other.
  void place_contiguously(Stream& stream, Entry& entry, uint32_t first, uint64_t wanted) {
    const auto found = geometry_.ranges_of({{first, static_cast<uint32_t>(wanted)}});
    stream.placement = Placement::exact;
    add_pieces(stream, found);
    note_short(stream, entry, found.empty() ? 0 : found[0].length);
  }

  void place_chain(Stream& stream, Entry& entry, uint32_t first, uint64_t wanted) {
    const Chain found = chain(first, wanted + 1);
    if (found.clusters == 0) {
      stream.open = true;
      entry.evidence.push_back({"chain-lost", 0});
      damage({entry.key, kEntrySize},
             fmt::format("The FAT has no chain for the file {}.", entry.name.text));
      return;
    }
    stream.placement = Placement::exact;
    add_pieces(stream, geometry_.ranges_of(found.runs));
    note_short(stream, entry, found.clusters * geometry_.cluster_size);
    if (found.end != Chain::End::marked && found.clusters < wanted) {
      damage({entry.key, kEntrySize},
             fmt::format("The chain of the file {} {} after {} of {} clusters.", entry.name.text,
                         to_text(found.end), found.clusters, wanted));
    }
  }

  void note_short(Stream& stream, Entry& entry, uint64_t there) const {
    if (there >= stream.size) return;
    append_piece(stream.pieces, {Piece::Kind::unknown, 0, stream.size - there});
    entry.evidence.push_back({"chain-short", stream.size - there});
  }

  void take_subfolder(const EntrySet& set, Entry entry) {
    const uint32_t first = set.stream.FirstCluster.value();
    const bool live = entry.state == State::live;
    const bool valid = geometry_.is_cluster(first);
    if (!valid || !clusters_.begin(first)) {
      entry.evidence.push_back({valid ? "folder-read-before" : "first-cluster-invalid", first});
      if (live) {
        damage({entry.key, kEntrySize},
               fmt::format("The folder {} starts {}; it is not entered.", entry.name.text,
                           valid ? "where a folder read before does"
                                 : "at a cluster that the volume has not"));
      }
      Stream stream;
      if (valid) stream.first = base_ + geometry_.offset_of(first);
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
      const Chain found = chain(first, wanted);
      // Without a chain the clusters are taken to follow each other: what is in them verifies
      // itself.
      if (found.clusters > 0 && (live || is_free(found))) {
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
  std::shared_ptr<const Window> window_;
  uint64_t base_;  // byte of the source at which the volume starts
  Geometry geometry_;
  CachedReader table_;
  Zone zone_;
  UpcaseTable upcase_;
  Volume volume_;
  std::vector<Entry> own_files_;
  std::optional<UseBitmap> bitmap_;
  Sink* sink_ = nullptr;
  std::deque<Site> live_, deleted_;
  std::vector<std::pair<uint32_t, Site>> ends_;  // living folders, with their last clusters
  std::vector<Entry> chained_;                   // see push_chained
  bool flag_is_used_ = false;                    // NoFatChain, for files of several clusters
  Found found_;
  Continuations clusters_;  // that were read, and what goes on which folder
};

}  // namespace

std::unique_ptr<VolumeReader> open(const SourcePtr& source, const ByteRange& where,
                                   const ReadOptions& options) {
  const Window window(source, where.offset, where.length);
  std::optional<Geometry> geometry = find_geometry(window, options.headless);
  if (!geometry) return nullptr;
  return make_reader(source, where, *geometry, options, {});
}

std::unique_ptr<VolumeReader> make_reader(const SourcePtr& source, const ByteRange& where,
                                          const Geometry& geometry, const ReadOptions& options,
                                          Found found) {
  return std::make_unique<Reader>(source, where, geometry, options, std::move(found));
}

}  // namespace undershelf::exfat
