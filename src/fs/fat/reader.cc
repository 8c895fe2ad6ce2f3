#include "fs/fat/reader.h"

#include <fmt/format.h>

#include <algorithm>
#include <deque>
#include <unordered_map>
#include <utility>

#include "fs/bitmap_reader.h"
#include "fs/fat/open_folders.h"
#include "fs/fat/streams.h"
#include "fs/fat/table_bits.h"

namespace undershelf::fat {
namespace {

constexpr size_t kMostDepth = 1024;  // of folders that nothing names

class Reader : public BitmapReader {
 public:
  Reader(const VolumePlace& place, Geometry geometry, Found found)
      : geometry_(std::move(geometry)),
        heap_(place.source, place.where, geometry_),
        table_(heap_.volume(), geometry_),
        options_(place.options),
        found_(std::move(found)),
        streams_(geometry_, table_, heap_, found_.former),
        folders_(geometry_, heap_, table_, found_),
        code_page_(options_.code_page) {
    describe();
  }

  void read(Sink& sink) override {
    folders_.clear();
    keys_.clear();
    sink_ = &sink;
    heap_.begin(sink);
    if (!found_.former) read_root();
    read_queued();
    read_found_root();
    read_queued();
    for (OpenFolder& folder : folders_.settle()) {
      folders_.go_on(folder);
      take(std::move(folder));
    }
    read_queued();
    for (const uint32_t folder : found_.folders) read_found(folder);
    for (const uint32_t cluster : found_.insides) read_loose(cluster);
    if (!found_.former) heap_.report_lost_chains();
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
    volume_ = geometry_.volume_at(heap_.base());
    volume_.file_system = name_of(geometry_.type);
    const Geometry& g = geometry_;
    const uint64_t end = std::max(g.fat_offset + g.fat_count * g.fat_size,
                                  g.type == Type::fat32 ? 0 : g.root_offset + g.root_size);
    volume_.structures = {heap_.on_space({0, g.sector_size}),
                          heap_.on_space({g.fat_offset, end - g.fat_offset})};
    if (g.type == Type::fat32 && !found_.former) {
      for (const VolumeRange& range : root_runs()) {
        volume_.structures.push_back(heap_.on_space(range));
      }
    }
    if (found_.former) return describe_former();
    if (!begins_like_fat(*heap_.volume(), geometry_)) return describe_label();
    bitmap_.emplace(std::make_shared<TableBits>(heap_.volume(), geometry_), volume_.heap(),
                    geometry_.cluster_size, BitOrder::least_first);
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
    std::vector<VolumeRange> where = found_.root;
    std::erase_if(where, [&](const VolumeRange& part) {
      return geometry_.type == Type::fat32 && folders_.is_taken(geometry_.cluster_at(part.offset));
    });
    if (where.empty()) return;
    const bool chained = geometry_.type == Type::fat32;
    if (chained) folders_.take(where);
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
    Content root;
    bool readable = true;
    for (const VolumeRange& range : root_runs()) {
      readable = root.append(*heap_.volume(), range).ok() && readable;
    }
    const FolderContent content = parse_folder(root.entries, geometry_, Trust::live, code_page_);
    if (content.label || readable) volume_.label = content.label.value_or("");
    if (content.rejected == 0) return;
    volume_.confidence = std::max(10, volume_.confidence - 30);
  }

  std::vector<VolumeRange> root_runs() {
    if (geometry_.type != Type::fat32) return {{geometry_.root_offset, geometry_.root_size}};
    return geometry_.ranges_of(streams_.folder_chain(geometry_.root_cluster).runs);
  }

  Content load(const std::vector<VolumeRange>& where) const {
    return heap_.load<DirectoryEntry>(where);
  }

  void read_root() {
    std::vector<VolumeRange> where = root_runs();
    Content content = heap_.load_in_use<DirectoryEntry>(where);
    const bool chained = geometry_.type == Type::fat32;
    if (chained) folders_.take(where);
    const bool chain_lost = chained && table_.use(geometry_.root_cluster) != Table::Use::used;
    take_or_hold({Site{}, std::move(content), std::move(where), true}, chain_lost);
  }

  void read_live(Site site) {
    const Chain chain = streams_.folder_chain(site.first);
    if (chain.clusters == 0) {
      heap_.count_lost_chain();
    } else if (chain.end != Chain::End::marked) {
      heap_.damage(
          {geometry_.is_cluster(site.first) ? geometry_.offset_of(site.first) : 0, 0},
          fmt::format("The chain of the folder {} {}.", site.entry.name.text, to_text(chain.end)));
    }
    std::vector<VolumeRange> where = geometry_.ranges_of(chain.runs);
    Content content = heap_.load_in_use<DirectoryEntry>(where);
    folders_.take(where);
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
    Content content = load({heap_.range_of(site.first)});
    const bool readable =
        begins_folder(content.entries, site.first, geometry_) && !folders_.is_taken(site.first);
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
      stream.first = heap_.place_of(site.first);
      site.entry.streams.push_back(std::move(stream));
      sink_->add(site.entry);
      return;
    }
    folders_.take(site.first);
    const VolumeRange where = heap_.range_of(site.first);
    OpenFolder folder{std::move(site), std::move(content), {where}, false};
    const bool chained = folders_.follow_left_chain(folder);
    take_or_hold(std::move(folder), !chained);
  }

  // Takes a folder whose clusters are all known. One whose chain is gone waits for what it goes on
  // with.
  void take_or_hold(OpenFolder folder, bool chain_lost) {
    if (!chain_lost || !folders_.hold(folder)) take(std::move(folder));
  }

  void take(OpenFolder folder) {
    Site& site = folder.site;
    if (site.first != 0) {
      Stream stream;
      stream.first = heap_.place_of(site.first);
      stream.placement = Placement::exact;
      heap_.add_pieces(stream, folder.where);
      site.entry.streams.push_back(std::move(stream));
      sink_->add(site.entry);
    }
    take_folder(folder.content, site, folder.live);
  }

  // A folder that a sweep found, and no other folder names: its own name is lost, unless the folder
  // that names it was not named either and comes first.
  void read_found(uint32_t folder) {
    if (folders_.is_taken(folder)) return;
    std::vector<uint32_t> up{folder};
    Content content = load_start(*heap_.volume(), geometry_, folder);
    uint32_t parent = 0;
    while (true) {
      if (!begins_folder(content.entries, up.back(), geometry_)) return;
      parent = first_cluster(content.entries[1], geometry_);
      const bool above = std::ranges::binary_search(found_.folders, parent) &&
                         !folders_.is_taken(parent) && std::ranges::find(up, parent) == up.end();
      if (!above || up.size() > kMostDepth) break;
      up.push_back(parent);
      content = load_start(*heap_.volume(), geometry_, parent);
    }
    const uint32_t top = up.back();
    // Its key is that of its `.`, which is no entry of its own.
    Site site{heap_.nameless_folder(top, geometry_.offset_of(top)), top, parent};
    Entry& entry = site.entry;
    entry.created = utc(created_time(content.entries[0]));
    entry.modified = utc(modified_time(content.entries[0]));
    const auto known = keys_.find(parent);
    if (known != keys_.end()) {
      entry.parent = known->second;
    } else {
      entry.orphan = parent != 0 && parent != geometry_.root_cluster;
    }
    const bool in_use = !found_.former && table_.use(top) == Table::Use::used;
    if (in_use) {
      entry.state = State::live;
      folders_.take(top);
      read_live(std::move(site));
    } else {
      read_deleted(std::move(site), true);
    }
    read_queued();
    if (top != folder) read_found(folder);
  }

  // A cluster that holds the inside of a folder of which nothing else is known.
  void read_loose(uint32_t cluster) {
    if (folders_.is_taken(cluster)) return;
    const VolumeRange range = heap_.range_of(cluster);
    const Content content = load({range});
    if (!looks_like_continuation(content.entries, geometry_)) return;
    folders_.take(cluster);
    Site site{heap_.nameless_folder(cluster, range.offset + 1), cluster, 0};  // no entry lies there
    Entry& entry = site.entry;
    entry.orphan = true;
    Stream stream;
    stream.placement = Placement::exact;
    heap_.add_pieces(stream, {range});
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
      if (!found.odd || streams_.is_backed(found)) return false;
      parsed.rejected += !found.deleted;
      return true;
    });
    const std::string label = is_root ? "the root folder" : "the folder " + site.entry.name.text;
    if (live && parsed.rejected > 0) {
      heap_.damage({content.parts.front().offset, 0},
                   fmt::format("{} slots of {} hold no entry.", parsed.rejected, label));
    }
    if (live && parsed.broken_names > 0) {
      heap_.damage({content.parts.front().offset, 0},
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
    entry.hidden = (found.raw.DIR_Attr & kAttrHidden) != 0;
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
        site.first = streams_.find_deleted_folder(found);
        deleted_.push_back(std::move(site));
      }
    } else {
      entry.streams.push_back(streams_.of_file(found, entry));
      sink_->add(entry);
    }
  }

  void queue_live_folder(Site site) {
    if (geometry_.is_cluster(site.first) && folders_.take(site.first)) {
      live_.push_back(std::move(site));
      return;
    }
    heap_.refuse_folder(site.entry, site.first);
    sink_->add(site.entry);
  }

  std::optional<Time> utc(std::optional<Time> local) const {
    if (local) local = options_.zone.to_utc(*local);
    return local;
  }

  const Geometry geometry_;
  chained::Heap heap_;
  Table table_;
  ReadOptions options_;
  Found found_;
  StreamMaker streams_;
  OpenFolders folders_;
  CodePage code_page_;
  std::deque<Site> live_;
  std::deque<Site> deleted_;
  std::deque<Site> doubtful_;
  std::unordered_map<uint32_t, uint64_t> keys_;  // of entries, by first cluster of folders read
};

}  // namespace

std::unique_ptr<VolumeReader> make_reader(const VolumePlace& place, const Geometry& geometry,
                                          Found found) {
  return std::make_unique<Reader>(place, geometry, std::move(found));
}

}  // namespace undershelf::fat
