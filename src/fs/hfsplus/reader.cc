#include "fs/hfsplus/reader.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <set>
#include <unordered_map>

#include "fs/bitmap.h"
#include "fs/hfsplus/entries.h"
#include "fs/hfsplus/geometry.h"
#include "fs/hfsplus/journal.h"
#include "fs/pieces_source.h"
#include "model/text.h"

namespace undershelf::hfsplus {
namespace {

constexpr std::u16string_view kPrivateFiles{u"\0\0\0\0HFS+ Private Data", 21};
constexpr std::u16string_view kPrivateFolders = u".HFS+ Private Directory Data\r";

class Reader : public VolumeReader {
 public:
  Reader(const SourcePtr& source, const ByteRange& where, Geometry geometry,
         std::optional<Found> found)
      : source_(source),
        geometry_(std::move(geometry)),
        found_(std::move(found)),
        tables_{source,
                {where.offset + geometry_.start, geometry_.block_size(), geometry_.block_count()},
                {},
                {},
                {},
                {},
                {}},
        window_(std::make_shared<Window>(source, tables_.space.base, geometry_.size())) {
    describe();
  }

  const Volume& volume() const override { return volume_; }
  const VolumeAge& age() const { return age_; }

  ByteRange next_used(const ByteRange& within) override {
    return bitmap_ ? bitmap_->next_used(within) : ByteRange{};
  }

  void read(Sink& sink) override {
    sink_ = &sink;
    live_ = {};
    remnants_ = {};
    tables_.overflow = tables_.stale_overflow = {};
    tables_.attributes.clear();
    tables_.stale_attributes.clear();
    links_.clear();
    stale_links_.clear();
    found_contents_.clear();
    ids_.clear();
    private_files_ = private_folders_ = 0;
    if (found_) return read_found();
    read_overflow();
    read_attributes();
    read_catalog();
    live_.settle();
    // A number that was given out already is no next one: the header is damaged.
    if (live_.largest() >= age_.next_cnid) age_.next_cnid = 0;
    read_journal();
    threads_.settle(live_, remnants_);
    gather_stale_links();
    push_own_files();
    push_catalog_leaves();
    push_live();
    push_lost_links();
    push_remnants();
  }

 private:
  struct Link {  // a name of a hard link's content
    PlacedName name;
    uint32_t cnid = 0;  // of the link itself
  };

  void describe() {
    const VolumeHeader& header = geometry_.header;
    volume_.file_system = geometry_.case_sensitive_format() ? "hfsx" : "hfsplus";
    volume_.offset = tables_.space.base;
    volume_.length = geometry_.size();
    volume_.sector_size = source_->sector_size();
    volume_.cluster_size = geometry_.block_size();
    volume_.heap_offset = tables_.space.base;
    volume_.cluster_count = geometry_.block_count();
    volume_.confidence = geometry_.confidence;
    volume_.notes = geometry_.notes;
    volume_.structures = {{tables_.space.base, kHeaderOffset + sizeof(VolumeHeader)},
                          {tables_.space.base + geometry_.size() - kHeaderOffset, kHeaderOffset}};
    if (found_) return describe_found();
    volume_.serial =
        fmt::format("{:08X}{:08X}", header.finderInfo[6].value(), header.finderInfo[7].value());
    bitmap_.emplace(open_fork(header.allocationFile, kAllocationFile), volume_.heap(),
                    geometry_.block_size(), BitOrder::most_first);
    BTree catalog = open_catalog(source_, geometry_, tables_.space, {}).tree;
    age_.next_cnid = header.nextCatalogID.value();
    if (!catalog.header_sound() && geometry_.catalog_leaves.empty()) {
      volume_.notes.emplace_back(
          "The header of the catalog is damaged; every node that looks like one is read.");
      volume_.confidence = std::max(10, volume_.confidence - 20);
    }
    // The root's own record, whose key has the volume's name, comes first.
    catalog.each([&](uint64_t, BTree::Use use, Bytes node) {
      if (use != BTree::Use::used || !looks_like_node(node, kLeafNode)) return true;
      for (const Bytes bytes : records_of(node).records) {
        const auto record = parse_catalog(bytes, false);
        if (record && record->type == kFolder && record->parent == kRootParent) {
          volume_.label = to_name(record->name).text;
          age_.formatted = record->file.createDate.value();
        }
      }
      return volume_.label.empty();
    });
  }

  // The root folder's name is the volume's.
  void describe_found() {
    uint32_t youngest = 0;  // when it was made
    each_catalog_record(*source_, *found_, [&](const CatalogRecord& record) {
      const uint32_t made = record.file.createDate.value();
      if (record.type != kFolder || record.parent != kRootParent || made < youngest) return;
      youngest = made;
      volume_.label = to_name(record.name).text;
    });
    const size_t later =
        found_->generations ? found_->generations->count() - 1 - found_->generation : 0;
    if (later > 0) volume_.serial = fmt::format("+{}", later);
  }

  void read_found() {
    each_found(
        *source_, *found_, kExtentsTree,
        [&](std::span<const Bytes> records) {
          for (const Bytes bytes : records) {
            if (const auto record = parse_extents(bytes, false)) tables_.overflow.add(*record);
          }
        },
        [&](Bytes bytes) { add_stale_extents(bytes); });
    each_found(
        *source_, *found_, kAttributesTree,
        [&](std::span<const Bytes> records) {
          for (const Bytes bytes : records) {
            if (auto record = parse_attribute(bytes, false)) {
              tables_.attributes[record->file].push_back(std::move(*record));
            }
          }
        },
        [&](Bytes bytes) { add_stale_attributes(bytes); });
    each_catalog_record(*source_, *found_,
                        [&](const CatalogRecord& record) { remnants_.add(record); });
    for (const auto& [cnid, remnant] : remnants_.all()) {
      if (!remnant.record) continue;
      CatalogRecord record = *remnant.record;
      record.parent = remnant.last.parent;
      if (record.type == kFolder && record.parent == kRoot) {
        if (remnant.last.name == kPrivateFiles) private_files_ = cnid;
        if (remnant.last.name == kPrivateFolders) private_folders_ = cnid;
      }
      if (const auto target = link_target(record)) {
        links_[*target].push_back({remnant.last, cnid});
      }
    }
    push_remnants();
    push_lost_links();
  }

  // A file of the file system's own; those with many extents go on in the overflow file.
  SourcePtr open_fork(const ForkData& fork, uint32_t cnid) {
    const Overflow* known[] = {&tables_.overflow};
    const PlacedFork placed = place_fork(fork, cnid, false, tables_.space, known);
    // What is declared counts only as far as the source reaches.
    const uint64_t size = std::min({fork.logicalSize.value(), geometry_.size(), source_->size()});
    return std::make_shared<PiecesSource>(source_, placed.pieces, size);
  }

  void damage(const ByteRange& range, std::string what) {
    sink_->add(Damage{range, std::move(what)});
  }

  // Calls `live` with records of leaf nodes in use and the byte of the stream at which each begins,
  // and `stale` with all that is left behind.
  // Damage is told of the tree named `what`; not at all if that is empty.
  void each_record(BTree& tree, const PiecesSource& stream, std::string_view what,
                   const std::function<void(Bytes record, uint64_t at)>& live,
                   const std::function<void(Bytes)>& stale) {
    tree.each([&](uint64_t number, BTree::Use use, Bytes node) {
      threads_.next_node();
      const uint64_t place = stream.place_of(number * tree.node_size()).value_or(0);
      const bool telling = !what.empty();
      if (use == BTree::Use::unreadable) {
        if (telling)
          damage({place, node.size()}, fmt::format("A node of the {} cannot be read.", what));
        return true;
      }
      const bool leaf = looks_like_node(node, kLeafNode);
      if (!leaf) {
        const bool other = looks_like_node(node, kIndexNode) || node[8] == std::byte{kMapNode};
        const bool blank = std::ranges::all_of(node, [](std::byte b) { return b == std::byte{0}; });
        if (telling && use == BTree::Use::used && !other && !blank) {
          damage({place, node.size()}, fmt::format("A node of the {} is damaged.", what));
        }
        stale(node);
        return true;
      }
      const NodeRecords found = records_of(node);
      const bool used = use == BTree::Use::used;
      if (telling && used && !found.sound) {
        damage({place, node.size()},
               fmt::format("Records of a node of the {} overlap or lead outside it.", what));
      }
      for (const Bytes record : found.records) {
        if (used) {
          const auto within = static_cast<uint64_t>(record.data() - node.data());
          live(record, number * tree.node_size() + within);
        } else {
          stale(record);
        }
      }
      stale(found.slack);
      return true;
    });
  }

  void read_overflow() {
    const auto stream = open_fork(geometry_.header.extentsFile, kExtentsFile);
    BTree tree(stream);
    each_record(
        tree, static_cast<const PiecesSource&>(*stream), "extents overflow file",
        [&](Bytes bytes, uint64_t) {
          if (const auto record = parse_extents(bytes, false)) tables_.overflow.add(*record);
        },
        [&](Bytes bytes) { add_stale_extents(bytes); });
    extents_node_ = tree.node_size();
  }

  void add_stale_extents(Bytes bytes) {
    constexpr size_t kLength = sizeof(ExtentKey) + sizeof(ExtentRecord::extents);
    for (size_t at = 0; at + kLength <= bytes.size();) {
      const auto record = parse_extents(bytes.subspan(at), true);
      if (record) tables_.stale_overflow.add(*record);
      at += record ? kLength : 2;
    }
  }

  void read_attributes() {
    if (geometry_.header.attributesFile.logicalSize.value() == 0) return;
    const auto stream = open_fork(geometry_.header.attributesFile, kAttributesFile);
    BTree tree(stream);
    each_record(
        tree, static_cast<const PiecesSource&>(*stream), "attributes file",
        [&](Bytes bytes, uint64_t at) {
          if (auto record = parse_attribute(bytes, false)) {
            record->leave_inline_data(at);
            tables_.attributes[record->file].push_back(std::move(*record));
          }
        },
        [&](Bytes bytes) { add_stale_attributes(bytes); });
    tables_.attributes_file = std::make_shared<CachedReader>(stream);
    attributes_node_ = tree.node_size();
  }

  void add_stale_attributes(Bytes bytes) {
    for (size_t at = 0; at + sizeof(AttributeKey) < bytes.size(); at += 2) {
      auto record = parse_attribute(bytes.subspan(at), true);
      if (!record || record->file < kFirstUser) continue;
      auto& known = tables_.stale_attributes[record->file];
      const bool told = std::ranges::any_of(
          known, [&](const AttributeRecord& r) { return r.name == record->name; });
      if (!told) known.push_back(std::move(*record));
    }
  }

  void each_live(const std::function<void(const CatalogRecord&)>& visit, bool first) {
    const Overflow* known[] = {&tables_.overflow};
    auto [stream, tree] = open_catalog(source_, geometry_, tables_.space, known);
    catalog_node_ = tree.node_size();
    each_record(
        tree, *stream, first ? "catalog" : "",
        [&](Bytes bytes, uint64_t) {
          if (const auto record = parse_catalog(bytes, false)) {
            visit(*record);
          } else if (first) {
            damage({tables_.space.base, 0}, "A record of the catalog makes no sense.");
          }
        },
        [&](Bytes bytes) {
          if (first) add_stale(bytes);
        });
  }

  // What is older than the volume is a former one's, for a sweep to find, though it may have the
  // number of a file that is here.
  void add_stale(Bytes bytes) {
    const VolumeAge age{age_.formatted, 0, nullptr};
    each_stale(bytes, [&](const CatalogRecord& record) {
      if (record.is_thread()) {
        threads_.add(record);
        return;
      }
      const bool older = age.is_older(record);
      if (!older) remnants_.add(record);
      threads_.note_beside(record, older);
    });
  }

  // The first pass over the catalog: what there is, whose names are links, what is left behind.
  void read_catalog() {
    each_live(
        [&](const CatalogRecord& record) {
          if (record.is_thread()) return;
          const PlacedName name{record.parent, record.name};
          if (record.type == kFolder && record.parent == kRoot) {
            if (record.name == kPrivateFiles) private_files_ = record.cnid();
            if (record.name == kPrivateFolders) private_folders_ = record.cnid();
          }
          live_.add(record.cnid(), name);
          if (const auto target = link_target(record)) {
            links_[*target].push_back({name, record.cnid()});
          }
        },
        true);
  }

  // Which content a record is a hard link to: whether of a folder, and its number.
  static std::optional<std::pair<bool, uint32_t>> link_target(const CatalogRecord& record) {
    if (record.type != kFile) return std::nullopt;
    const uint32_t type = record.file.fdType.value();
    const uint32_t creator = record.file.fdCreator.value();
    const uint32_t number = record.file.permissions.special.value();
    if (type == kHardLinkType && creator == kHardLinkCreator) return std::pair{false, number};
    if (type == kFolderLinkType && creator == kFolderLinkCreator) return std::pair{true, number};
    return std::nullopt;
  }

  // The number of the content that a file or folder in the private folders is.
  std::optional<std::pair<bool, uint32_t>> content_number(const CatalogRecord& record) const {
    const bool folder = record.type == kFolder;
    const uint32_t home = folder ? private_folders_ : private_files_;
    const std::u16string_view prefix = folder ? u"dir_" : u"iNode";
    if (home == 0 || record.parent != home || !record.name.starts_with(prefix)) return std::nullopt;
    uint32_t number = 0;
    for (const char16_t c : record.name.substr(prefix.size())) {
      if (c < u'0' || c > u'9') return std::nullopt;
      number = number * 10 + (c - u'0');
    }
    return std::pair{folder, number};
  }

  void read_journal() {
    const ByteRange journal = journal_range(*window_, geometry_.header);
    std::vector<size_t> sizes = {catalog_node_, extents_node_, attributes_node_};
    std::erase(sizes, 0U);
    std::ranges::sort(sizes);
    sizes.erase(std::unique(sizes.begin(), sizes.end()), sizes.end());
    if (sizes.empty()) return;
    each_journaled_node(*window_, journal, sizes, [&](Bytes node) {
      threads_.next_node();
      const NodeRecords found = records_of(node);
      for (const Bytes record : found.records) {
        add_stale(record);
        if (const auto extents = parse_extents(record, true)) tables_.stale_overflow.add(*extents);
        add_stale_attributes(record);
      }
      add_stale(found.slack);
    });
  }

  void push_own_files() {
    const VolumeHeader& h = geometry_.header;
    const std::pair<const char*, std::pair<uint32_t, const ForkData*>> kFiles[] = {
        {"[extents overflow file]", {kExtentsFile, &h.extentsFile}},
        {"[catalog file]", {kCatalogFile, &h.catalogFile}},
        {"[allocation file]", {kAllocationFile, &h.allocationFile}},
        {"[startup file]", {kStartupFile, &h.startupFile}},
        {"[attributes file]", {kAttributesFile, &h.attributesFile}}};
    for (const auto& [name, file] : kFiles) {
      if (file.second->totalBlocks.value() == 0) continue;
      Entry entry;
      entry.key = file.first;
      entry.system = true;
      entry.name = {name, {}, false};
      entry.streams.push_back(fork_stream(*file.second, file.first, false, true, entry, tables_));
      sink_->add(entry);
    }
  }

  // The leaves of a catalog that no header tells of.
  void push_catalog_leaves() {
    if (geometry_.catalog_leaves.empty()) return;
    Entry entry;
    entry.key = kCatalogFile;
    entry.system = true;
    entry.name = {"[catalog file]", {}, false};
    Stream stream;
    stream.size = stream.valid_size = geometry_.leaves_in_use * geometry_.leaf_size;
    stream.placement = Placement::exact;
    stream.pieces = truncated(geometry_.catalog_leaves, stream.size);
    entry.streams.push_back(std::move(stream));
    sink_->add(entry);
  }

  void push_live() {
    each_live(
        [&](const CatalogRecord& record) {
          if (record.is_thread() || record.parent == kRootParent) return;
          if (const auto target = link_target(record); target && links_.contains(*target)) return;
          Entry entry = from_record(record, State::live, tables_);
          if (const auto number = content_number(record)) {
            if (const auto names = links_.find(*number); names != links_.end()) {
              take_names(entry, names->second);
              add_stale_names(entry, *number);
              found_contents_.insert(*number);
              push(entry);
              return;
            }
            if (const auto stale = stale_links_.find(*number); stale != stale_links_.end()) {
              // No link leads to it any more, but one did.
              take_names(entry, stale->second);
              stale_links_.erase(stale);
              push(entry);
              return;
            }
          }
          set_name(entry, {record.parent, record.name});
          entry.system = is_private(record);
          if (record.name == kPrivateFiles) entry.name.text = "[private data of HFS+]";
          push(entry);
        },
        false);
  }

  // Names that hard links had: their records are stale, the content may live.
  void gather_stale_links() {
    for (const auto& [cnid, remnant] : remnants_.all()) {
      if (!remnant.record || live_.has(cnid)) continue;
      if (const auto target = link_target(*remnant.record)) {
        stale_links_[*target].push_back({remnant.last, cnid});
      }
    }
  }

  void add_stale_names(Entry& entry, const std::pair<bool, uint32_t>& content) {
    const auto stale = stale_links_.find(content);
    if (stale == stale_links_.end()) return;
    for (const Link& link : stale->second) {
      entry.other_names.push_back(other_name(OtherName::Kind::former, link.name));
    }
    stale_links_.erase(stale);
  }

  // Hard links that were deleted, and whose content is nowhere.
  void push_stale_links() {
    for (const auto& [target, links] : stale_links_) {
      Entry entry;
      entry.key = links.front().cnid;
      entry.kind = target.first ? Kind::folder : Kind::file;
      entry.state = State::deleted;
      entry.proof = Proof::old;
      take_names(entry, links);
      entry.evidence.push_back({"link-content-lost", target.second});
      entry.streams.emplace_back();
      entry.streams.back().size_known = false;
      sink_->add(entry);
    }
  }

  void push(const Entry& entry) {
    for (const Evidence& fact : entry.evidence) {
      if (fact.fact != "extents-missing") continue;
      damage({tables_.space.base, 0}, fmt::format("{} bytes of {} have no place that makes sense.",
                                                  fact.amount, entry.name.text));
    }
    const int64_t id = sink_->add(entry);
    const auto cnid = static_cast<uint32_t>(entry.key);
    if (remnants_.all().contains(cnid)) ids_[cnid] = id;
  }

  bool is_private(const CatalogRecord& record) const {
    if (record.parent == private_files_ || record.parent == private_folders_) return true;
    return record.parent == kRoot &&
           (record.name == kPrivateFiles || record.name == kPrivateFolders ||
            record.name == u".journal" || record.name == u".journal_info_block");
  }

  void take_names(Entry& entry, const std::vector<Link>& links) const {
    set_name(entry, links.front().name);
    for (size_t i = 1; i < links.size(); ++i) {
      entry.other_names.push_back(other_name(OtherName::Kind::link, links[i].name));
    }
  }

  // Links whose content is gone.
  void push_lost_links() {
    for (const auto& [target, links] : links_) {
      if (found_contents_.contains(target)) continue;
      Entry entry;
      entry.key = links.front().cnid;
      entry.kind = target.first ? Kind::folder : Kind::file;
      take_names(entry, links);
      entry.evidence.push_back({"link-content-lost", target.second});
      entry.streams.emplace_back();
      entry.streams.back().size_known = false;
      sink_->add(entry);
      damage({tables_.space.base, 0},
             fmt::format("The content that the hard link {} leads to is lost.", entry.name.text));
    }
  }

  // Folders first, then files; names of living files from before a rename.
  void push_remnants() {
    for (const bool folders : {true, false}) {
      for (const auto& [cnid, remnant] : remnants_.all()) {
        if (remnant.folder != folders) continue;
        // What is older than the volume is a former one's: a sweep finds it.
        if (!found_ && age_.is_older(cnid, remnant)) continue;
        if (live_.has(cnid)) {
          push_former_names(cnid, remnant);
          continue;
        }
        if (remnant.record && link_target(*remnant.record)) continue;
        sink_->add(linked_entry(cnid, remnant));
      }
    }
    if (!found_) push_stale_links();
  }

  // As from_remnant; with the names of its links, if it is their content.
  Entry linked_entry(uint32_t cnid, const Remnant& remnant) {
    Entry entry = from_remnant(cnid, remnant, tables_);
    CatalogRecord record = remnant.record.value_or(CatalogRecord{});
    record.parent = remnant.last.parent;
    record.name = remnant.last.name;
    entry.system = is_private(record);
    if (!remnant.record) return entry;
    const auto number = content_number(record);
    const auto names = number ? links_.find(*number) : links_.end();
    const auto stale = number ? stale_links_.find(*number) : stale_links_.end();
    if (names != links_.end()) {
      entry.other_names.clear();
      take_names(entry, names->second);
      found_contents_.insert(*number);
      entry.system = false;
    } else if (stale != stale_links_.end()) {
      entry.other_names.clear();
      take_names(entry, stale->second);
      stale_links_.erase(stale);
      entry.system = false;
    }
    return entry;
  }

  void push_former_names(uint32_t cnid, const Remnant& remnant) {
    const auto id = ids_.find(cnid);
    if (id == ids_.end()) return;
    const auto push_name = [&](const PlacedName& name) {
      if (live_.has(cnid, name) || name.parent == private_files_) return;
      sink_->add(id->second, other_name(OtherName::Kind::former, name));
    };
    push_name(remnant.last);
    std::ranges::for_each(remnant.others, push_name);
  }

  SourcePtr source_;
  Geometry geometry_;
  std::optional<Found> found_;
  Tables tables_;
  SourcePtr window_;
  Volume volume_;
  std::optional<UseBitmap> bitmap_;
  Sink* sink_ = nullptr;
  size_t catalog_node_ = 0, extents_node_ = 0, attributes_node_ = 0;  // bytes
  VolumeAge age_;
  LiveIndex live_;
  Remnants remnants_;
  StaleThreads threads_;
  std::map<std::pair<bool, uint32_t>, std::vector<Link>> links_, stale_links_;
  std::set<std::pair<bool, uint32_t>> found_contents_;  // of hard links
  std::unordered_map<uint32_t, int64_t> ids_;           // of living files that have remnants
  uint32_t private_files_ = 0, private_folders_ = 0;    // CNIDs of the private folders
};

}  // namespace

std::unique_ptr<VolumeReader> open(const SourcePtr& source, const ByteRange& where,
                                   const ReadOptions& options) {
  const Window window(source, where.offset, where.length);
  std::optional<Geometry> geometry = find_geometry(window, options.headless);
  if (!geometry) return nullptr;
  return make_reader(source, where, *geometry, std::nullopt);
}

std::unique_ptr<VolumeReader> make_reader(const SourcePtr& source, const ByteRange& where,
                                          const Geometry& geometry, std::optional<Found> found) {
  return std::make_unique<Reader>(source, where, geometry, std::move(found));
}

VolumeAge age_of(const SourcePtr& source, uint64_t start, const Geometry& geometry) {
  return Reader(source, {start, source->size() - start}, geometry, std::nullopt).age();
}

}  // namespace undershelf::hfsplus
