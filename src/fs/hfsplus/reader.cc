#include "fs/hfsplus/reader.h"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_map>

#include "fs/bitmap_reader.h"
#include "fs/guessed_sink.h"
#include "fs/hfsplus/entries.h"
#include "fs/hfsplus/hard_links.h"
#include "fs/hfsplus/journal.h"
#include "fs/hfsplus/trees.h"
#include "fs/pieces_source.h"
#include "model/make_set.h"
#include "model/text.h"

namespace undershelf::hfsplus {
namespace {

// The folder of hard links' contents, whose stored name begins with four NULs.
constexpr const char* kPrivateName = "[private data of HFS+]";

class Reader : public BitmapReader {
 public:
  Reader(const VolumePlace& place, Geometry geometry, std::optional<Found> found)
      : source_(place.source),
        geometry_(std::move(geometry)),
        found_(std::move(found)),
        tables_{
            source_,
            {place.where.offset + geometry_.start, geometry_.block_size(), geometry_.block_count()},
            {},
            {},
            {},
            {},
            {}},
        window_(std::make_shared<Window>(source_, tables_.space.base, geometry_.size())) {
    describe();
  }

  const VolumeAge& age() const { return age_; }

  void read(Sink& sink) override {
    GuessedSink guessed(sink);
    sink_ = geometry_.has_blocks ? &sink : &guessed;
    live_ = {};
    remnants_ = {};
    tables_.overflow = tables_.stale_overflow = {};
    tables_.attributes.clear();
    tables_.stale_attributes.clear();
    links_.clear();
    ids_.clear();
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
    for (const Entry& entry : own_files(geometry_, tables_)) sink_->add(entry);
    push_live();
    push_lost_links();
    push_remnants();
  }

 private:
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
    // The eight bytes that systems number volumes by; those of one that none mounted are zero.
    const uint32_t high = header.finderInfo[6].value();
    const uint32_t low = header.finderInfo[7].value();
    if (high != 0 || low != 0) volume_.serial = fmt::format("{:08X}{:08X}", high, low);
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
    read_found_tables(*source_, *found_, tables_);
    each_catalog_record(*source_, *found_,
                        [&](const CatalogRecord& record) { remnants_.add(record); });
    for (const auto& [cnid, remnant] : remnants_.all()) {
      if (remnant.record) links_.note(*remnant.record, remnant.last);
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

  // Damage is told of the tree named `what`; not at all if that is empty.
  TreeVisitor visitor(std::string_view what, std::function<void(Bytes, uint64_t)> on_record,
                      std::function<void(Bytes)> on_stale) {
    TreeVisitor visitor{std::string(what),
                        [this] { threads_.next_node(); },
                        std::move(on_record),
                        std::move(on_stale),
                        {}};
    if (!what.empty()) {
      visitor.on_damage = [this](const ByteRange& range, std::string fault) {
        damage(range, std::move(fault));
      };
    }
    return visitor;
  }

  void read_overflow() {
    const auto stream = open_fork(geometry_.header.extentsFile, kExtentsFile);
    BTree tree(stream);
    each_record(tree, static_cast<const PiecesSource&>(*stream),
                visitor(
                    "extents overflow file",
                    [&](Bytes bytes, uint64_t) {
                      const auto record = parse_extents(bytes, false);
                      if (record) tables_.overflow.add(*record);
                    },
                    [&](Bytes bytes) { add_stale_extents(bytes, tables_.stale_overflow); }));
    extents_node_ = tree.node_size();
  }

  void read_attributes() {
    if (geometry_.header.attributesFile.logicalSize.value() == 0) return;
    const auto stream = open_fork(geometry_.header.attributesFile, kAttributesFile);
    BTree tree(stream);
    each_record(tree, static_cast<const PiecesSource&>(*stream),
                visitor(
                    "attributes file",
                    [&](Bytes bytes, uint64_t at) {
                      auto record = parse_attribute(bytes, false);
                      if (!record) return;
                      record->leave_inline_data(at);
                      tables_.attributes[record->file].push_back(std::move(*record));
                    },
                    [&](Bytes bytes) { add_stale_attributes(bytes, tables_.stale_attributes); }));
    tables_.attributes_file = std::make_shared<CachedReader>(stream);
    attributes_node_ = tree.node_size();
  }

  void each_live(const std::function<void(const CatalogRecord&)>& visit, bool first) {
    const Overflow* known[] = {&tables_.overflow};
    auto [stream, tree] = open_catalog(source_, geometry_, tables_.space, known);
    catalog_node_ = tree.node_size();
    each_record(tree, *stream,
                visitor(
                    first ? "catalog" : "",
                    [&](Bytes bytes, uint64_t) {
                      if (const auto record = parse_catalog(bytes, false)) {
                        visit(*record);
                      } else if (first) {
                        damage({tables_.space.base, 0}, "A record of the catalog makes no sense.");
                      }
                    },
                    [&](Bytes bytes) {
                      if (first) add_stale(bytes);
                    }));
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
          live_.add(record.cnid(), name);
          links_.note(record, name);
        },
        true);
  }

  void read_journal() {
    const ByteRange journal = journal_range(*window_, geometry_.header);
    std::vector<size_t> sizes = {catalog_node_, extents_node_, attributes_node_};
    std::erase(sizes, 0U);
    make_set(sizes);
    if (sizes.empty()) return;
    each_journaled_node(*window_, journal, sizes, [&](Bytes node) {
      threads_.next_node();
      const NodeRecords found = records_of(node);
      for (const Bytes record : found.records) {
        add_stale(record);
        if (const auto extents = parse_extents(record, true)) tables_.stale_overflow.add(*extents);
        add_stale_attributes(record, tables_.stale_attributes);
      }
      add_stale(found.slack);
    });
  }

  void push_live() {
    each_live(
        [&](const CatalogRecord& record) {
          if (record.is_thread() || record.parent == kRootParent || is_link(record)) return;
          Entry entry = from_record(record, State::live, tables_);
          if (!links_.name_content(entry, record)) {
            set_name(entry, {record.parent, record.name});
            entry.system = links_.is_private(record);
            if (links_.holds_files(record.cnid())) entry.name.text = kPrivateName;
          }
          push(entry);
        },
        false);
  }

  // Names that hard links had: their records are stale, the content may live.
  void gather_stale_links() {
    for (const auto& [cnid, remnant] : remnants_.all()) {
      if (remnant.record && !live_.has(cnid)) links_.note_stale(*remnant.record, remnant.last);
    }
  }

  void push(const Entry& entry) {
    for (const Evidence& fact : entry.evidence) {
      if (fact.fact != "extents-missing") continue;
      damage({tables_.space.base, 0}, fmt::format("{} bytes of {} have no place that makes sense.",
                                                  fact.amount, entry.name.text));
    }
    const EntryId id = sink_->add(entry);
    const auto cnid = static_cast<uint32_t>(entry.key);
    if (remnants_.all().contains(cnid)) ids_[cnid] = id;
  }

  void push_lost_links() {
    for (const Entry& entry : links_.lost()) {
      sink_->add(entry);
      damage({tables_.space.base, 0},
             fmt::format("The content that the hard link {} leads to is lost.", entry.name.text));
    }
  }

  // Folders first, then files; names of living files from before a rename.
  void push_remnants() {
    if (remnants_.left_out() > 0) {
      damage(
          {tables_.space.base, 0},
          fmt::format("{} names of lost files are more than can be kept.", remnants_.left_out()));
    }
    for (const bool folders : {true, false}) {
      for (const auto& [cnid, remnant] : remnants_.all()) {
        if (remnant.folder != folders) continue;
        // What is older than the volume is a former one's: a sweep finds it.
        if (!found_ && age_.is_older(cnid, remnant)) continue;
        if (live_.has(cnid)) {
          push_former_names(cnid, remnant);
          continue;
        }
        if (remnant.record && is_link(*remnant.record)) continue;
        sink_->add(linked_entry(cnid, remnant));
      }
    }
    if (found_) return;
    for (const Entry& entry : links_.lost_stale()) sink_->add(entry);
  }

  // As from_remnant; with the names of its links, if it is their content.
  Entry linked_entry(uint32_t cnid, const Remnant& remnant) {
    Entry entry = from_remnant(cnid, remnant, tables_);
    CatalogRecord record = remnant.record.value_or(CatalogRecord{});
    record.parent = remnant.last.parent;
    record.name = remnant.last.name;
    entry.system = links_.is_private(record);
    if (remnant.record && links_.name_content(entry, record)) entry.system = false;
    return entry;
  }

  void push_former_names(uint32_t cnid, const Remnant& remnant) {
    const auto id = ids_.find(cnid);
    if (id == ids_.end()) return;
    const auto push_name = [&](const PlacedName& name) {
      if (live_.has(cnid, name) || links_.holds_files(name.parent)) return;
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
  size_t catalog_node_ = 0, extents_node_ = 0, attributes_node_ = 0;  // bytes
  VolumeAge age_;
  LiveIndex live_;
  Remnants remnants_;
  StaleThreads threads_;
  HardLinks links_;
  std::unordered_map<uint32_t, EntryId> ids_;  // of living files that have remnants
};

}  // namespace

std::unique_ptr<VolumeReader> make_reader(const VolumePlace& place, const Geometry& geometry,
                                          std::optional<Found> found) {
  return std::make_unique<Reader>(place, geometry, std::move(found));
}

VolumeAge age_of(const SourcePtr& source, uint64_t start, const Geometry& geometry) {
  const VolumePlace place{source, {start, source->size() - start}, {}};
  return Reader(place, geometry, std::nullopt).age();
}

}  // namespace undershelf::hfsplus
