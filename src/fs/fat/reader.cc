#include "fs/fat/reader.h"

#include <fmt/format.h>

#include <algorithm>
#include <deque>
#include <unordered_map>
#include <unordered_set>
#include <utility>

#include "fs/bitmap.h"
#include "fs/fat/content.h"
#include "fs/fat/continuations.h"
#include "fs/fat/streams.h"
#include "fs/fat/table.h"
#include "fs/fat/table_bits.h"

namespace undershelf::fat {
namespace {

// How much may be read in search of the later clusters of folders without a chain, if no sweep
// found them: behind each folder, and in all.
constexpr uint64_t kSearchPerFolder = 16 << 20;
constexpr uint64_t kSearchInAll = 512 << 20;
constexpr size_t kMostDepth = 1024;  // of folders that nothing names

// A folder that is still to be read.
struct Site {
  Entry entry;  // as pushed once its clusters are known
  uint32_t first = 0;
  uint32_t parent_first = 0;  // 0 for the root, as `..` has it
};

// A folder that may go on beyond the clusters known of it. It is taken once that is settled.
struct OpenFolder {
  Site site;
  Content content;
  std::vector<ByteRange> where;  // bytes in the volume
  bool live = false;
};

class Reader : public VolumeReader {
 public:
  Reader(const SourcePtr& source, const ByteRange& where, Geometry geometry,
         const ReadOptions& options, Found found)
      : window_(std::make_shared<Window>(source, where.offset, where.length)),
        base_(where.offset),
        geometry_(std::move(geometry)),
        table_(window_, geometry_),
        options_(options),
        found_(std::move(found)),
        streams_(geometry_, table_, base_, found_.former),
        code_page_(options.code_page) {
    describe();
  }

  const Volume& volume() const override { return volume_; }

  ByteRange next_used(const ByteRange& within) override {
    return used_ ? used_->next_used(within) : ByteRange{};
  }

  void read(Sink& sink) override {
    sink_ = &sink;
    seen_.clear();
    keys_.clear();
    open_.clear();
    later_.clear();
    is_settled_ = false;
    streams_.begin(
        [this](const ByteRange& where, std::string what) { damage(where, std::move(what)); });
    if (!found_.former) read_root();
    read_queued();
    read_found_root();
    read_queued();
    settle_open();
    read_queued();
    for (const uint32_t folder : found_.folders) read_found(folder);
    for (const uint32_t cluster : found_.insides) read_loose(cluster);
    if (streams_.chains_lost() > 0 && !found_.former) {
      damage({geometry_.fat_offset, geometry_.fat_size},
             fmt::format("The FAT has no chain for {} living files and folders.",
                         streams_.chains_lost()));
    }
  }

 private:
  void read_queued() {
    while (!live_.empty()) {
      Site site = std::move(live_.front());
      live_.pop_front();
      read_live(std::move(site));
    }
    // Deleted folders whose `..` confirms their place come first; the others are old names.
    while (!deleted_.empty() || !doubtful_.empty()) {
      const bool confirmed = !deleted_.empty();
      auto& queue = confirmed ? deleted_ : doubtful_;
      Site site = std::move(queue.front());
      queue.pop_front();
      read_deleted(std::move(site), !confirmed);
    }
  }

  void describe() {
    volume_ = geometry_.volume_at(base_);
    volume_.file_system = name_of(geometry_.type);
    const Geometry& g = geometry_;
    const uint64_t end = std::max(g.fat_offset + g.fat_count * g.fat_size,
                                  g.type == Type::fat32 ? 0 : g.root_offset + g.root_size);
    volume_.structures = {{base_, g.sector_size}, {base_ + g.fat_offset, end - g.fat_offset}};
    if (g.type == Type::fat32 && !found_.former) {
      for (const ByteRange& range : root_runs()) {
        volume_.structures.push_back({base_ + range.offset, range.length});
      }
    }
    if (found_.former) return describe_former();
    if (!begins_like_fat(*window_, geometry_, table_.main_copy())) return describe_label();
    used_.emplace(std::make_shared<TableBits>(window_, geometry_, table_.main_copy()),
                  volume_.heap(), geometry_.cluster_size, BitOrder::least_first);
    const Table::Flags flags = table_.flags();
    if (!flags.clean) {
      volume_.notes.emplace_back(
          "It was not unmounted cleanly: what was written last may be incomplete.");
    }
    if (!flags.no_errors) {
      volume_.notes.emplace_back(
          "A driver met read or write errors on it: the medium may be failing. Work on a copy.");
    }
    describe_label();
  }

  // Parts of a former root, and the clusters of it that go on from the last of them.
  void read_found_root() {
    // A root that is where the boot sector says was read already.
    if (!found_.former && geometry_.type != Type::fat32) return;
    std::vector<ByteRange> where = found_.root;
    std::erase_if(where, [&](const ByteRange& part) {
      return geometry_.type == Type::fat32 && seen_.contains(geometry_.cluster_at(part.offset));
    });
    if (where.empty()) return;
    const bool chained = geometry_.type == Type::fat32;
    if (chained) mark_seen(where);
    take_or_hold({Site{}, load(where), where, false}, chained);
  }

  void describe_former() {
    volume_.label = name_from_utf16(code_page_.decode(geometry_.boot_label)).text;
    const Content root = load(found_.root);
    const auto label = parse_folder(root.entries, geometry_, Trust::deleted, code_page_).label;
    if (label) volume_.label = *label;
  }

  void describe_label() {
    volume_.label = name_from_utf16(code_page_.decode(geometry_.boot_label)).text;
    // The label in the root folder is the one that is kept up to date.
    std::vector<ByteRange> bad;
    Content root = load(root_runs(), &bad);
    const FolderContent content = parse_folder(root.entries, geometry_, Trust::live, code_page_);
    if (content.label || bad.empty()) volume_.label = content.label.value_or("");
    if (content.rejected == 0) return;
    volume_.confidence = std::max(10, volume_.confidence - 30);
  }

  void damage(const ByteRange& in_volume, std::string what) {
    sink_->add(Damage{{base_ + in_volume.offset, in_volume.length}, std::move(what)});
  }

  std::vector<ByteRange> root_runs() {
    if (geometry_.type != Type::fat32) return {{geometry_.root_offset, geometry_.root_size}};
    return geometry_.ranges_of(streams_.folder_chain(geometry_.root_cluster).runs);
  }

  Content load(const std::vector<ByteRange>& where, std::vector<ByteRange>* bad = nullptr) {
    Content content;
    for (const ByteRange& range : where) {
      const ReadResult result = content.append(*window_, range);
      if (bad != nullptr) bad->insert(bad->end(), result.bad.begin(), result.bad.end());
    }
    return content;
  }

  void report_unreadable(const std::vector<ByteRange>& bad) {
    for (const ByteRange& range : bad) {
      damage(range, fmt::format("{} bytes of a folder cannot be read.", range.length));
    }
  }

  void read_root() {
    std::vector<ByteRange> where = root_runs();
    std::vector<ByteRange> bad;
    Content content = load(where, &bad);
    report_unreadable(bad);
    const bool chained = geometry_.type == Type::fat32;
    if (chained) mark_seen(where);
    const bool chain_lost = chained && table_.use(geometry_.root_cluster) != Table::Use::used;
    take_or_hold({Site{}, std::move(content), std::move(where), true}, chain_lost);
  }

  void mark_seen(const std::vector<ByteRange>& where) {
    for (const ByteRange& range : where) {
      for (uint64_t at = range.offset; at < range.end(); at += geometry_.cluster_size) {
        seen_.insert(geometry_.cluster_at(at));
      }
    }
  }

  void read_live(Site site) {
    const Chain chain = streams_.folder_chain(site.first);
    if (chain.clusters == 0) {
      streams_.count_lost_chain();
    } else if (chain.end != Chain::End::marked) {
      damage(
          {geometry_.is_cluster(site.first) ? geometry_.offset_of(site.first) : 0, 0},
          fmt::format("The chain of the folder {} {}.", site.entry.name.text, to_text(chain.end)));
    }
    std::vector<ByteRange> where = geometry_.ranges_of(chain.runs);
    std::vector<ByteRange> bad;
    Content content = load(where, &bad);
    report_unreadable(bad);
    mark_seen(where);
    take_or_hold({std::move(site), std::move(content), std::move(where), true},
                 chain.clusters == 0);
  }

  void read_deleted(Site site, bool is_doubtful) {
    Stream stream;
    if (!geometry_.is_cluster(site.first)) {
      site.entry.evidence.push_back({"first-cluster-invalid", site.first});
      site.entry.streams.push_back(stream);
      sink_->add(site.entry);
      return;
    }
    Content content = load({{geometry_.offset_of(site.first), geometry_.cluster_size}});
    const bool readable =
        begins_folder(content.entries, site.first, geometry_) && !seen_.contains(site.first);
    if (readable && !is_doubtful) {
      const uint32_t parent = first_cluster(content.entries[1], geometry_);
      const bool in_root =
          site.parent_first == 0 && (parent == 0 || parent == geometry_.root_cluster);
      if (parent != site.parent_first && !in_root) {
        doubtful_.push_back(std::move(site));
        return;
      }
    }
    if (!readable) {
      site.entry.evidence.push_back({"folder-replaced", 0});
      stream.first = base_ + geometry_.offset_of(site.first);
      site.entry.streams.push_back(std::move(stream));
      sink_->add(site.entry);
      return;
    }
    seen_.insert(site.first);
    std::vector<ByteRange> where{{geometry_.offset_of(site.first), geometry_.cluster_size}};
    const bool chained = follow_left_chain(content, where, site.first);
    take_or_hold({std::move(site), std::move(content), std::move(where), false}, !chained);
  }

  // Takes a folder whose clusters are all known. One whose chain is gone waits for what it goes on
  // with, if its last cluster is full.
  void take_or_hold(OpenFolder folder, bool chain_lost) {
    if (chain_lost && is_full(folder.content.entries)) {
      if (!is_settled_) {
        open_.push_back(std::move(folder));
        return;
      }
      go_on(folder);
    }
    take(std::move(folder));
  }

  static bool is_full(const std::vector<DirectoryEntry>& entries) {
    return !entries.empty() && entries.back().DIR_Name[0] != 0 &&
           entries.size() * sizeof(DirectoryEntry) < kMostFolderBytes;
  }

  void take(OpenFolder folder) {
    Site& site = folder.site;
    if (site.first != 0) {
      Stream stream;
      stream.first = base_ + geometry_.offset_of(site.first);
      stream.placement = Placement::exact;
      streams_.add_pieces(stream, folder.where);
      site.entry.streams.push_back(std::move(stream));
      sink_->add(site.entry);
    }
    take_folder(folder.content, site, folder.live);
  }

  // Appends the clusters that were found to go on a folder.
  void go_on(OpenFolder& folder) {
    const auto later = later_.find(folder.site.first);
    if (later == later_.end()) return;
    for (const uint32_t cluster : later->second) {
      if (!seen_.insert(cluster).second) continue;
      const ByteRange range{geometry_.offset_of(cluster), geometry_.cluster_size};
      folder.content.append(*window_, range);
      folder.where.push_back(range);
    }
  }

  // Settles what all open folders go on with, those included that only they lead to; then takes
  // them.
  void settle_open() {
    is_settled_ = true;
    std::vector<OpenFolder> open = std::exchange(open_, {});
    std::vector<FolderEnd> ends;
    // First clusters of folders that are not read yet.
    std::vector<uint32_t> heads = found_.folders;
    for (const OpenFolder& folder : open) {
      ends.push_back({folder.site.first, geometry_.cluster_at(folder.content.parts.back().offset),
                      tail_of(folder.content.entries)});
      list_folders(folder.content.entries, heads);
    }
    std::vector<Inside> insides;
    for (const uint32_t cluster : inside_clusters(ends)) {
      const Content content = load({{geometry_.offset_of(cluster), geometry_.cluster_size}});
      if (!looks_like_continuation(content.entries, geometry_)) continue;
      insides.push_back({cluster, head_of(content.entries), {}, parent_of(content)});
      if (is_full(content.entries)) insides.back().tail = tail_of(content.entries);
      list_folders(content.entries, heads);
    }
    if (!insides.empty()) {
      add_unread(std::move(heads), ends);
      later_ = find_continuations(ends, insides);
    }
    for (OpenFolder& folder : open) {
      go_on(folder);
      take(std::move(folder));
    }
  }

  void list_folders(std::span<const DirectoryEntry> entries, std::vector<uint32_t>& first) const {
    for (const DirectoryEntry& entry : entries) {
      const bool folder = (entry.DIR_Attr & (kAttrDirectory | kAttrVolumeId)) == kAttrDirectory;
      const uint32_t cluster = first_cluster(entry, geometry_);
      if (folder && entry.DIR_Name[0] != 0 && geometry_.is_cluster(cluster)) {
        first.push_back(cluster);
      }
    }
  }

  // The ends of folders that begin at these clusters, and of those in them.
  void add_unread(std::vector<uint32_t> heads, std::vector<FolderEnd>& ends) {
    std::unordered_set<uint32_t> known;
    while (!heads.empty()) {
      const uint32_t head = heads.back();
      heads.pop_back();
      const bool chained = !found_.former && table_.use(head) == Table::Use::used;
      if (chained || seen_.contains(head) || !known.insert(head).second) continue;
      const Content content = load({{geometry_.offset_of(head), geometry_.cluster_size}});
      if (!begins_folder(content.entries, head, geometry_)) continue;
      list_folders(std::span(content.entries).subspan(2), heads);
      if (is_full(content.entries)) ends.push_back({head, head, tail_of(content.entries)});
    }
  }

  // Clusters that may hold the inside of a folder: those that a sweep found, or those behind the
  // ends of folders.
  std::vector<uint32_t> inside_clusters(const std::vector<FolderEnd>& ends) {
    const auto may_be = [&](uint32_t c) {
      return !seen_.contains(c) && (found_.former || table_.use(c) != Table::Use::used);
    };
    std::vector<uint32_t> clusters;
    if (found_.swept) {
      std::ranges::copy_if(found_.insides, std::back_inserter(clusters), may_be);
      return clusters;
    }
    std::vector<uint32_t> last;
    for (const FolderEnd& end : ends) last.push_back(end.last);
    std::ranges::sort(last);
    uint64_t left = kSearchInAll / geometry_.cluster_size;
    uint32_t next = 0;
    for (const uint32_t from : last) {
      const uint64_t end =
          from + 1 + std::max<uint64_t>(1, kSearchPerFolder / geometry_.cluster_size);
      for (next = std::max(next, from + 1); next < end && left > 0 && geometry_.is_cluster(next);
           ++next) {
        if (!may_be(next)) continue;
        clusters.push_back(next);
        --left;
      }
    }
    return clusters;
  }

  // The folder that a cluster belongs to, as the folders that it lists have it in their `..`.
  std::optional<uint32_t> parent_of(const Content& content) {
    constexpr size_t kMostAsked = 8;
    std::vector<uint32_t> children;
    list_folders(content.entries, children);
    for (const uint32_t child : std::span(children).first(std::min(kMostAsked, children.size()))) {
      const Content start = load_start(child);
      if (!begins_folder(start.entries, child, geometry_)) continue;
      const uint32_t parent = first_cluster(start.entries[1], geometry_);
      return parent == geometry_.root_cluster ? 0 : parent;
    }
    return std::nullopt;
  }

  // Appends the later clusters of a former folder, if its chain is left in some table: then each of
  // them looks like the inside of a folder.
  bool follow_left_chain(Content& content, std::vector<ByteRange>& where, uint32_t first) {
    for (unsigned copy = 0; found_.former && copy < geometry_.fat_count; ++copy) {
      const Chain chain = table_.chain(first, kMostFolderBytes / geometry_.cluster_size, copy);
      if (chain.end != Chain::End::marked) continue;
      const std::vector<ByteRange> parts = geometry_.ranges_of(chain.runs);
      Content whole = load(parts);
      const size_t per_cluster = geometry_.cluster_size / sizeof(DirectoryEntry);
      bool fits = true;
      for (size_t slot = per_cluster; slot < whole.entries.size(); slot += per_cluster) {
        const auto part = std::span(whole.entries).subspan(slot, per_cluster);
        fits = fits && (part[0].DIR_Name[0] == 0 || looks_like_continuation(part, geometry_));
      }
      if (!fits) continue;
      content = std::move(whole);
      where = parts;
      mark_seen(where);
      return true;
    }
    return false;
  }

  // A folder that a sweep found, and no other folder names: its own name is lost, unless the folder
  // that names it was not named either and comes first.
  void read_found(uint32_t folder) {
    if (seen_.contains(folder)) return;
    std::vector<uint32_t> up{folder};
    Content content = load_start(folder);
    uint32_t parent = 0;
    while (true) {
      if (!begins_folder(content.entries, up.back(), geometry_)) return;
      parent = first_cluster(content.entries[1], geometry_);
      const bool above = std::ranges::binary_search(found_.folders, parent) &&
                         !seen_.contains(parent) && std::ranges::find(up, parent) == up.end();
      if (!above || up.size() > kMostDepth) break;
      up.push_back(parent);
      content = load_start(parent);
    }
    const uint32_t top = up.back();
    Site site;
    site.first = top;
    site.parent_first = parent;
    Entry& entry = site.entry;
    entry.key = geometry_.offset_of(top);  // of its `.`, which is no entry of its own
    entry.kind = Kind::folder;
    entry.state = State::deleted;
    entry.name = {fmt::format("[folder {}]", top), {}, false};
    entry.created = utc(created_time(content.entries[0]));
    entry.modified = utc(modified_time(content.entries[0]));
    entry.evidence.push_back({"name-lost", 0});
    const auto known = keys_.find(parent);
    if (known != keys_.end()) {
      entry.parent = known->second;
    } else {
      entry.orphan = parent != 0 && parent != geometry_.root_cluster;
    }
    const bool in_use = !found_.former && table_.use(top) == Table::Use::used;
    if (in_use) {
      entry.state = State::live;
      seen_.insert(top);
      read_live(std::move(site));
    } else {
      read_deleted(std::move(site), true);
    }
    read_queued();
    if (top != folder) read_found(folder);
  }

  Content load_start(uint32_t cluster) {
    return load({{geometry_.offset_of(cluster), 2 * sizeof(DirectoryEntry)}});
  }

  // A cluster that holds the inside of a folder of which nothing else is known.
  void read_loose(uint32_t cluster) {
    if (seen_.contains(cluster)) return;
    const ByteRange range{geometry_.offset_of(cluster), geometry_.cluster_size};
    const Content content = load({range});
    if (!looks_like_continuation(content.entries, geometry_)) return;
    seen_.insert(cluster);
    Site site;
    site.first = cluster;
    Entry& entry = site.entry;
    entry.key = range.offset + 1;  // no entry lies there
    entry.kind = Kind::folder;
    entry.state = State::deleted;
    entry.orphan = true;
    entry.name = {fmt::format("[folder {}]", cluster), {}, false};
    entry.evidence.push_back({"name-lost", 0});
    Stream stream;
    stream.placement = Placement::exact;
    streams_.add_pieces(stream, {range});
    entry.streams.push_back(std::move(stream));
    sink_->add(entry);
    take_folder(content, site, false);
    read_queued();
  }

  void take_folder(const Content& content, const Site& site, bool live) {
    if (content.entries.empty()) return;
    const bool is_root = site.first == 0;
    if (!is_root) keys_.try_emplace(site.first, site.entry.key);
    FolderContent parsed =
        parse_folder(content.entries, geometry_, live ? Trust::live : Trust::deleted, code_page_);
    std::erase_if(parsed.entries, [&](const FolderEntry& found) {
      if (!found.odd || streams_.is_backed(found, *window_)) return false;
      parsed.rejected += !found.deleted;
      return true;
    });
    const std::string label = is_root ? "the root folder" : "the folder " + site.entry.name.text;
    if (live && parsed.rejected > 0) {
      damage({content.parts.front().offset, 0},
             fmt::format("{} slots of {} hold no entry.", parsed.rejected, label));
    }
    if (live && parsed.broken_names > 0) {
      damage({content.parts.front().offset, 0},
             fmt::format("{} long names in {} are damaged; the short names are shown.",
                         parsed.broken_names, label));
    }
    for (const FolderEntry& found : parsed.entries) {
      take_entry(found, content.offset_of(found.slot), site, is_root, live);
    }
  }

  void take_entry(const FolderEntry& found, uint64_t offset, const Site& parent, bool in_root,
                  bool parent_live) {
    Entry entry;
    entry.key = offset;
    if (!in_root) entry.parent = parent.entry.key;
    entry.state = parent_live && !found.deleted ? State::live : State::deleted;
    entry.marked_deleted = found.marked;
    // A rename leaves an entry behind, as deletion does.
    if (found.deleted) entry.proof = Proof::unsure;
    entry.name = found.name;
    if (found.odd) entry.evidence.push_back({"name-odd", 0});
    entry.created = utc(created_time(found.raw));
    entry.modified = utc(modified_time(found.raw));
    entry.accessed = utc(accessed_date(found.raw));
    if ((found.raw.DIR_Attr & kAttrDirectory) != 0) {
      entry.kind = Kind::folder;
      Site site{std::move(entry), first_cluster(found.raw, geometry_), parent.first};
      if (site.entry.state == State::live) {
        queue_live_folder(std::move(site));
      } else {
        site.first = streams_.find_deleted_folder(found, *window_);
        deleted_.push_back(std::move(site));
      }
    } else {
      entry.streams.push_back(streams_.of_file(found, entry));
      sink_->add(entry);
    }
  }

  void queue_live_folder(Site site) {
    if (!geometry_.is_cluster(site.first)) {
      site.entry.evidence.push_back({"first-cluster-invalid", site.first});
      damage({site.entry.key, sizeof(DirectoryEntry)},
             fmt::format("The folder {} starts at cluster {}, which the volume has not.",
                         site.entry.name.text, site.first));
    } else if (!seen_.insert(site.first).second) {
      site.entry.evidence.push_back({"folder-read-before", site.first});
      damage({site.entry.key, sizeof(DirectoryEntry)},
             fmt::format("The folder {} starts where a folder read before does; it is not entered.",
                         site.entry.name.text));
    } else {
      live_.push_back(std::move(site));
      return;
    }
    sink_->add(site.entry);
  }

  std::optional<Time> utc(std::optional<Time> local) const {
    if (local) local = options_.zone.to_utc(*local);
    return local;
  }

  std::shared_ptr<const Window> window_;
  uint64_t base_;  // byte of the source at which the volume starts
  Geometry geometry_;
  Table table_;
  ReadOptions options_;
  Found found_;
  StreamMaker streams_;
  CodePage code_page_;
  Volume volume_;
  std::optional<UseBitmap> used_;  // of clusters, if the FAT begins as a FAT does
  Sink* sink_ = nullptr;
  std::deque<Site> live_;
  std::deque<Site> deleted_;
  std::deque<Site> doubtful_;
  std::unordered_set<uint32_t> seen_;            // first and later clusters of folders read
  std::unordered_map<uint32_t, uint64_t> keys_;  // of entries, by first cluster of folders read
  std::vector<OpenFolder> open_;
  bool is_settled_ = false;                                    // what open folders go on with
  std::unordered_map<uint32_t, std::vector<uint32_t>> later_;  // their later clusters, by the first
};

}  // namespace

std::unique_ptr<VolumeReader> open(const SourcePtr& source, const ByteRange& where,
                                   const ReadOptions& options) {
  const auto window = std::make_shared<Window>(source, where.offset, where.length);
  std::optional<Geometry> geometry = find_geometry(window, options.headless);
  if (!geometry) return nullptr;
  return make_reader(source, where, *geometry, options, {});
}

std::unique_ptr<VolumeReader> make_reader(const SourcePtr& source, const ByteRange& where,
                                          const Geometry& geometry, const ReadOptions& options,
                                          Found found) {
  return std::make_unique<Reader>(source, where, geometry, options, std::move(found));
}

}  // namespace undershelf::fat
