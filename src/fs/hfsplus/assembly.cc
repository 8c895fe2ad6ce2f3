#include <fmt/format.h>

#include <algorithm>
#include <functional>
#include <map>
#include <set>

#include "content/types.h"
#include "fs/assembly/layouts.h"
#include "fs/hfsplus/catalog.h"
#include "fs/hfsplus/forks.h"
#include "fs/hfsplus/found.h"
#include "fs/hfsplus/lost_trees.h"
#include "fs/hfsplus/reader.h"
#include "fs/pieces_source.h"
#include "fs/systems.h"
#include "fs/trace_kinds.h"
#include "model/make_set.h"
#include "model/text.h"

namespace undershelf::hfsplus {
namespace {

constexpr const Rules& kRules = kHfsplusRules;
constexpr size_t kMostFiles = 20'000;   // looked at for their format
constexpr size_t kMostPins = 100'000;   // records that name a journal, with journals
constexpr size_t kMostNodes = 500'000;  // looked at: what they tell is held in memory
constexpr uint64_t kUsualBlock = 4096;  // bytes; where nothing tells

// A place where volumes were, one after the other.
struct Place {
  ByteRange range;              // bytes of the source
  std::vector<Geometry> named;  // by volume headers; their starts count in the source
};

// What the records of one volume tell of where its blocks lie.
struct Clues {
  size_t records = 0;
  std::vector<Pin> pins;
  std::vector<KnownFile> files;
};

// Leaf nodes hold the whole tree: each record has its folder's number. Where blocks are counted
// from, and how large they are, tell volume headers, trees and journals whose first block a record
// names, and at last the content of files.
class Assembler {
 public:
  explicit Assembler(const Scene& scene) : scene_(scene), layouts_(scene, kRules) {
    for (const Scene::Current& one : scene.current) {
      const Volume& volume = one.reader->volume();
      if (volume.file_system.starts_with("hfs")) take_current(volume);
    }
    for (const Trace& run : scene.of_kind(kLeafNodes)) {
      for (uint64_t at = run.offset; at < run.end(); at += run.other) {
        if (in_use_.contains(at) || scene.is_held({at, run.other}) || is_from_before(at)) continue;
        if (++count_ > kMostNodes) continue;
        found_.add({at, run.other, kLeafNodes, run.number, run.other}, false);
      }
    }
    for (const Trace& journal : scene.free_of_kind(kJournal)) {
      journals_.push_back(
          {journal.offset, std::min(journal.number, scene.source->size() - journal.offset)});
    }
  }

  std::vector<Assembled> run() {
    take_headers();
    // Those whose catalog is in place are read as they stand.
    for (Geometry& geometry : headers_) {
      const ByteRange where = range_of(geometry);
      if (scene_.current_at(where.offset) == nullptr && has_catalog(scene_, geometry)) {
        add_standing(where, geometry, 80);
        places_.push_back({where, {}});
      } else {
        places_.push_back({where, {geometry}});
      }
    }
    add_places_without_header();
    for (const Place& place : joined(std::move(places_))) add_volumes(place, true);
    return std::move(assembled_);
  }

 private:
  bool is_from_before(uint64_t place) const {
    return std::ranges::any_of(from_before_, [&](const ByteRange& range) {
      return overlap(range, {place, 1}).length > 0;
    });
  }

  ByteRange range_of(const Geometry& geometry) const {
    const uint64_t end = std::max(scene_.source->size(), geometry.start);
    return {geometry.start, std::min(geometry.size(), end - geometry.start)};
  }

  // Nodes in use by a volume that is there now are its own; what stands behind their records, and
  // its other nodes, may be older than it.
  void take_current(const Volume& volume) {
    // Its numbers count from what is not there: which nodes are its own is not worked out.
    if (volume.before > 0) {
      from_before_.push_back({volume.offset, volume.length});
      return;
    }
    const auto window =
        std::make_shared<Window>(scene_.source, volume.offset,
                                 std::min(volume.length, scene_.source->size() - volume.offset));
    std::optional<Geometry> geometry = find_geometry(window, true);
    if (!geometry) return;
    geometry->start += volume.offset;
    take_catalog({volume.offset, volume.length}, *geometry);
  }

  void take_catalog(const ByteRange& where, const Geometry& geometry) {
    CatalogFile catalog =
        open_catalog(scene_.source, geometry,
                     {geometry.start, geometry.block_size(), geometry.block_count()}, {});
    const auto live = std::make_shared<LiveIndex>();
    const size_t size = catalog.tree.node_size();
    catalog.tree.each([&](uint64_t number, BTree::Use use, Bytes node) {
      const auto place = catalog.stream->place_of(number * size);
      if (use != BTree::Use::used || !place || !looks_like_node(node, kLeafNode)) return true;
      in_use_.insert(*place);
      for (const Bytes bytes : records_of(node).records) {
        const auto record = parse_catalog(bytes, false);
        if (record && !record->is_thread()) {
          live->add(record->cnid(), {record->parent, record->name});
        }
      }
      found_.add({*place, size, kLeafNodes, kCatalogTree, size}, true);
      return true;
    });
    Geometry from_start = geometry;
    from_start.start = 0;
    VolumeAge age = age_of(scene_.source, geometry.start, from_start);
    live->settle();
    if (live->largest() >= age.next_cnid) age.next_cnid = 0;  // the header is damaged
    age.live = live;
    ages_.push_back({where, age});
  }

  // A volume that can be read as it stands; what is older may be between its nodes.
  void add_standing(const ByteRange& where, const Geometry& geometry, int confidence) {
    Geometry from_start = geometry;
    from_start.start = 0;
    from_start.confidence = confidence;
    assembled_.push_back(
        {make_reader({scene_.source, where, scene_.options}, from_start, {}), false});
    take_catalog(where, geometry);
  }

  void take_headers() {
    each_free_header<VolumeHeader>(scene_, "hfs", [&](uint64_t place, const VolumeHeader& header) {
      if (headers_.size() >= kMostVolumes || !is_believable(header)) return;
      Geometry geometry;
      geometry.header = header;
      geometry.start = place;
      const bool known = std::ranges::any_of(
          headers_, [&](const Geometry& other) { return grid_of(other) == grid_of(geometry); });
      // A header stands 1024 bytes behind the start, or before the end; of both readings of it,
      // that one is right for which something is where it says.
      if (!known && leads_somewhere(geometry)) headers_.push_back(geometry);
    });
    // Of two that stand in one place the younger is there now.
    std::ranges::stable_sort(headers_, std::greater{}, [](const Geometry& geometry) {
      return geometry.header.modifyDate.value();
    });
  }

  bool leads_somewhere(const Geometry& geometry) const {
    if (has_catalog(scene_, geometry)) return true;
    const ByteRange catalog = catalog_of(geometry);
    return std::ranges::any_of(found_.nodes, [&](const Found::Nodes& nodes) {
      return nodes.trace.offset >= catalog.offset && nodes.trace.end() <= catalog.end() &&
             !nodes.slack_only;
    });
  }

  // Around nodes that lie in no place with a header.
  void add_places_without_header() {
    std::map<uint64_t, uint64_t> starts;  // by where the space around the nodes ends
    for (const Found::Nodes& nodes : found_.nodes) {
      const bool named = std::ranges::any_of(places_, [&](const Place& place) {
        return overlap(place.range, nodes.trace.range()).length > 0;
      });
      const uint64_t place = nodes.trace.offset;
      if (!named) starts.try_emplace(scene_.end_around(place), scene_.start_before(place + 1));
    }
    for (const auto& [end, start] : starts) places_.push_back({{start, end - start}, {}});
  }

  // Places that overlap are one.
  static std::vector<Place> joined(std::vector<Place> places) {
    std::ranges::sort(places, {}, [](const Place& place) { return place.range.offset; });
    std::vector<Place> joined;
    for (Place& place : places) {
      if (joined.empty() || place.range.offset >= joined.back().range.end()) {
        joined.push_back(std::move(place));
        continue;
      }
      Place& last = joined.back();
      last.range.length = std::max(last.range.end(), place.range.end()) - last.range.offset;
      last.named.insert(last.named.end(), place.named.begin(), place.named.end());
    }
    return joined;
  }

  // The nodes in a place that are no present volume's.
  Found found_in(const ByteRange& range) const {
    Found found;
    for (const Found::Nodes& nodes : found_.nodes) {
      if (overlap(nodes.trace.range(), range).length == 0) continue;
      Trace node = nodes.trace;
      node.length = nodes.trace.other;
      for (; node.offset < nodes.trace.end(); node.offset += node.length) {
        const bool taken = !nodes.slack_only && in_use_.contains(node.offset);
        if (!taken && overlap(node.range(), range).length > 0) found.add(node, nodes.slack_only);
      }
    }
    return found;
  }

  // The volumes that were formatted one after the other in a place. `may_stand`: one of them may
  // be readable as it stands.
  void add_volumes(const Place& place, bool may_stand) {
    Found found = found_in(place.range);
    if (found.nodes.empty()) return;
    if (const VolumeAge* age = age_at(found.nodes.front().trace.offset)) found.older_than = *age;
    const std::vector<Clues> clues = tell_apart(found);
    std::map<size_t, Geometry> named;  // by generation
    for (const Geometry& geometry : place.named) {
      named.try_emplace(best_match(geometry, clues, *found.generations), geometry);
    }
    std::optional<Grid> later;  // of the volume that came after
    int most_confidence = 100;
    for (size_t left = clues.size(); left-- > 0;) {
      found.generation = left;
      if (clues[left].records == 0) continue;
      const bool youngest = left + 1 == clues.size();
      Geometry geometry = inferred(place, found, clues[left], later);
      const auto header = named.find(left);
      // A guess that nothing speaks for does not beat a header, whatever its files begin with: they
      // may be encrypted, or overwritten.
      const bool told = geometry.confidence >= kRules.confidence(false, true, 0);
      const bool fits =
          header != named.end() && (!told || score(grid_of(header->second), clues[left]) >=
                                                 score(grid_of(geometry), clues[left]));
      if (fits) {
        geometry = header->second;
        geometry.confidence = kRules.confidence(true, false, 0);
      }
      if (geometry.has_blocks) later = grid_of(geometry);
      // With its catalog in place it can be read as it stands.
      if (youngest && may_stand && !fits && scene_.current_at(geometry.start) == nullptr &&
          has_catalog(scene_, geometry)) {
        add_standing(range_of(geometry), geometry, geometry.confidence);
        return add_volumes(place, false);
      }
      if (clues.size() > 1) {
        geometry.notes.emplace_back(
            "Volumes were formatted one after the other here; dates and numbers tell which of "
            "their records belong to it.");
      }
      // What came later is there to be read first.
      geometry.confidence = std::min(geometry.confidence, most_confidence);
      most_confidence = std::max(geometry.confidence - 5, 10);
      const ByteRange where = range_of(geometry);
      geometry.start = 0;
      assembled_.push_back(
          {make_reader({scene_.source, where, scene_.options}, geometry, found), false});
    }
  }

  // Finds out how many volumes there were, and what there is to know of each, the oldest first.
  std::vector<Clues> tell_apart(Found& found) const {
    const auto generations = std::make_shared<Generations>();
    each_catalog_record(*scene_.source, found,
                        [&](const CatalogRecord& record) { generations->add(record); });
    generations->settle();
    found.generations = generations;
    std::vector<Clues> clues(generations->count());
    for (found.generation = 0; found.generation < clues.size(); ++found.generation) {
      clues[found.generation] = study(found);
    }
    return clues;
  }

  Clues study(const Found& found) const {
    Clues clues;
    each_catalog_record(*scene_.source, found, [&](const CatalogRecord& record) {
      ++clues.records;
      if (record.type != kFile || record.known < offsetof(FileRecord, resourceFork)) return;
      const Extent& first = record.file.dataFork.extents[0];
      if (first.blockCount.value() == 0) return;
      if (record.name == u".journal") {
        for (const ByteRange& journal : journals_) {
          if (clues.pins.size() >= kMostPins) break;
          clues.pins.push_back({first.startBlock.value(), journal.offset});
        }
      }
      const Format& format = format_by_name(to_utf8(record.name));
      if (!format.magic.empty() && clues.files.size() < kMostFiles) {
        clues.files.push_back({first.startBlock.value(), &format});
      }
    });
    return clues;
  }

  // Which of the volumes a header is of: the one whose files lie where it has them, or else the one
  // that was there when it was written.
  size_t best_match(const Geometry& geometry, const std::vector<Clues>& clues,
                    const Generations& generations) const {
    size_t best = generations.at(geometry.header.modifyDate.value());
    int most = score(grid_of(geometry), clues[best]);
    for (size_t i = 0; i < clues.size(); ++i) {
      const int fits = score(grid_of(geometry), clues[i]);
      if (fits <= most) continue;
      most = fits;
      best = i;
    }
    return best;
  }

  int score(const Grid& grid, const Clues& clues) const {
    const auto pinned =
        std::ranges::count_if(clues.pins, [&](const Pin& pin) { return is_on(grid, pin); });
    return layouts_.worth(static_cast<size_t>(pinned)) + layouts_.content(grid, clues.files);
  }

  const VolumeAge* age_at(uint64_t place) const {
    for (const auto& [range, age] : ages_) {
      if (overlap(range, {place, 1}).length > 0) return &age;
    }
    return nullptr;
  }

  // The layout that fits best, without a volume header.
  Geometry inferred(const Place& place, const Found& found, const Clues& clues,
                    const std::optional<Grid>& later) const {
    const uint64_t first = found.nodes.front().trace.offset;  // inside the volume
    Grid best = later.value_or(Grid{scene_.start_before(first + 1), kUsualBlock});
    int most = kLeastContent - 1;
    for (const Grid& grid : layouts_.at_starts(starts_in(place, clues), first)) {
      const int fits = score(grid, clues);
      if (fits <= most) continue;
      most = fits;
      best = grid;
    }
    const bool placed = most >= kLeastContent;
    Geometry geometry;
    geometry.has_blocks = placed || later.has_value();
    geometry.start = best.start;
    geometry.confidence = kRules.confidence(false, placed, 0);
    geometry.header.signature = kSignaturePlus;
    geometry.header.blockSize = static_cast<uint32_t>(best.unit_size);
    geometry.header.totalBlocks = static_cast<uint32_t>(
        std::min<uint64_t>((place.range.end() - best.start) / best.unit_size, UINT32_MAX));
    if (placed) add_trees(scene_, journals_, found, geometry);
    // Names come back all the same.
    geometry.notes.push_back(
        placed ? "No volume header is left of it. Leaf nodes of its catalog tell the tree, the "
                 "content of files where they lie."
               : "No volume header is left of it, and nothing tells where its blocks lie: contents "
                 "may be others'.");
    return geometry;
  }

  // Where a volume may start: sorted.
  std::vector<uint64_t> starts_in(const Place& place, const Clues& clues) const {
    std::vector<uint64_t> starts = scene_.starts;
    for (const Geometry& geometry : place.named) starts.push_back(geometry.start);
    for (const Pin& pin : clues.pins) {
      for (uint64_t size = kRules.least_unit; size <= kRules.most_unit; size *= 2) {
        if (pin.unit <= pin.place / size) starts.push_back(pin.place - pin.unit * size);
      }
    }
    if (const auto voted = layouts_.voted(clues.files)) starts.push_back(voted->grid.start);
    make_set(starts);
    return starts;
  }

  const Scene& scene_;
  const Layouts layouts_;
  Found found_;                         // all nodes
  std::vector<ByteRange> from_before_;  // current volumes that begin before the source
  std::set<uint64_t> in_use_;           // places of nodes of catalogs that are read as they stand
  std::vector<std::pair<ByteRange, VolumeAge>> ages_;  // of their volumes
  size_t count_ = 0;                                   // nodes
  std::vector<ByteRange> journals_;
  std::vector<Geometry> headers_;
  std::vector<Place> places_;
  std::vector<Assembled> assembled_;
};

}  // namespace
}  // namespace undershelf::hfsplus

std::vector<undershelf::Assembled> undershelf::assemble(Hfsplus, const Scene& scene) {
  return hfsplus::Assembler(scene).run();
}
