#include "fs/hfsplus/former.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>
#include <set>

#include "content/types.h"
#include "fs/hfsplus/catalog.h"
#include "fs/hfsplus/detector.h"
#include "fs/hfsplus/forks.h"
#include "fs/hfsplus/leaf_chain.h"
#include "fs/hfsplus/reader.h"
#include "fs/pieces_source.h"
#include "fs/votes.h"
#include "model/text.h"

namespace undershelf::hfsplus {
namespace {

constexpr size_t kMostVolumes = 64;
constexpr size_t kMostFiles = 20'000;   // looked at for their format
constexpr size_t kMostNodes = 500'000;  // looked at: what they tell is held in memory
constexpr uint64_t kLeastBlock = 512, kMostBlock = 1 << 20;  // bytes
constexpr uint64_t kUsualBlock = 4096;                       // bytes
constexpr int kLeastScore = 4;                               // of content, to be believed

struct Draft {
  Grid grid;                         // its unit 0 is block 0
  std::optional<Geometry> geometry;  // of a volume header
  size_t files = 0;                  // that began as they should
};

class Assembler {
 public:
  explicit Assembler(const Scene& scene) : scene_(scene) {
    for (VolumeReader* reader : scene.current) {
      if (reader->volume().file_system.starts_with("hfs")) take_current(*reader);
    }
    for (const Trace& run : scene.of_kind(kLeafNodes)) {
      for (uint64_t at = run.offset; at < run.end(); at += run.other) {
        if (in_use_.contains(at) || scene.is_held({at, run.other})) continue;
        if (++count_ > kMostNodes) continue;
        add_node({at, run.other, kLeafNodes, run.number, run.other}, false);
      }
    }
  }

  std::vector<Assembled> run() {
    take_headers();
    if (!nodes_.empty()) {
      study();
      if (drafts_.empty()) infer();
    }
    for (Draft& draft : drafts_) finish(draft);
    return std::move(assembled_);
  }

 private:
  // Nodes in use by a volume that is there now are its own; what stands behind their records, and
  // its other nodes, may be older than it.
  void take_current(VolumeReader& reader) {
    const Volume& volume = reader.volume();
    const uint64_t start = volume.offset;
    const auto window =
        std::make_shared<Window>(scene_.source, start, scene_.source->size() - start);
    const std::optional<Geometry> geometry = find_geometry(*window, true);
    if (!geometry) return;
    const ForkData& fork = geometry->header.catalogFile;
    const PlacedFork placed =
        place_fork(fork, kCatalogFile, false,
                   {start + geometry->start, geometry->block_size(), geometry->block_count()}, {});
    const auto stream = std::make_shared<PiecesSource>(
        scene_.source, placed.pieces, std::min(fork.logicalSize.value(), geometry->size()));
    BTree tree(stream);
    if (!tree.header_sound()) return;
    uint32_t largest = 0;
    tree.each([&](uint64_t number, BTree::Use use, Bytes node) {
      const auto place = stream->place_of(number * tree.node_size());
      if (use != BTree::Use::used || !place || !looks_like_node(node, kLeafNode)) return true;
      in_use_.insert(*place);
      for (const Bytes bytes : records_of(node).records) {
        if (const auto record = parse_catalog(bytes, false)) {
          largest = std::max(largest, record->cnid());
        }
      }
      add_node({*place, tree.node_size(), kLeafNodes, kCatalogTree, tree.node_size()}, true);
      return true;
    });
    VolumeAge age = age_of(scene_.source, start, *geometry);
    if (largest >= age.next_cnid) age.next_cnid = 0;  // the header is damaged
    ages_.push_back({{volume.offset, volume.length}, age});
  }

  void add_node(const Trace& node, bool slack_only) {
    if (!nodes_.empty()) {
      Found::Nodes& last = nodes_.back();
      if (last.trace.end() == node.offset && last.trace.number == node.number &&
          last.trace.other == node.other && last.slack_only == slack_only) {
        last.trace.length += node.length;
        return;
      }
    }
    nodes_.push_back({node, slack_only});
    own_nodes_ += !slack_only;
  }

  void take_headers() {
    for (const Trace& trace : scene_.of_kind(kHeaderTrace)) {
      Geometry geometry;
      const auto bytes = std::as_writable_bytes(std::span(&geometry.header, 1));
      if (drafts_.size() >= kMostVolumes || scene_.is_held(trace.range()) ||
          !scene_.source->read(trace.offset, bytes).ok() || !is_believable(geometry.header)) {
        continue;
      }
      const Grid grid{trace.number, geometry.block_size()};
      const bool known =
          scene_.is_current(grid.start, "hfs") ||
          std::ranges::any_of(drafts_, [&](const Draft& draft) { return draft.grid == grid; });
      // A header stands 1024 bytes behind the start, or before the end; of both readings of it,
      // that one is right for which something is where it says.
      if (known || !leads_somewhere(grid, geometry)) continue;
      drafts_.push_back({grid, geometry, 0});
    }
  }

  bool leads_somewhere(const Grid& grid, const Geometry& geometry) const {
    const uint64_t catalog =
        grid.place_of(geometry.header.catalogFile.extents[0].startBlock.value());
    const uint64_t end = catalog + geometry.header.catalogFile.logicalSize.value();
    for (const Trace& tree : scene_.of_kind(kTreeHeader)) {
      if (tree.offset == catalog) return true;
    }
    return std::ranges::any_of(nodes_, [&](const Found::Nodes& nodes) {
      return nodes.trace.offset >= catalog && nodes.trace.end() <= end && !nodes.slack_only;
    });
  }

  // What the records tell of where blocks lie.
  void study() {
    std::vector<uint64_t> journals;
    for (const Trace& journal : scene_.of_kind(kJournal)) {
      if (!scene_.is_held(journal.range())) journals.push_back(journal.offset);
    }
    std::vector<std::byte> bytes;
    for (const Found::Nodes& nodes : nodes_) {
      if (nodes.trace.number != kCatalogTree) continue;
      bytes.resize(nodes.trace.other);
      for (uint64_t at = nodes.trace.offset; at < nodes.trace.end(); at += bytes.size()) {
        scene_.source->read(at, bytes);
        const NodeRecords found = records_of(bytes);
        const auto take = [&](const CatalogRecord& record) { study(record, at, journals); };
        for (const Bytes record : found.records) {
          const auto parsed = parse_catalog(record, true);
          if (parsed && !nodes.slack_only) take(*parsed);
        }
        if (nodes.slack_only) each_stale(found.slack, take);
      }
    }
  }

  void study(const CatalogRecord& record, uint64_t place, const std::vector<uint64_t>& journals) {
    if (record.type != kFile || record.known < offsetof(FileRecord, resourceFork)) return;
    if (const VolumeAge* age = age_at(place); age != nullptr && !age->is_older(record)) return;
    has_older_ = true;
    const Extent& first = record.file.dataFork.extents[0];
    if (first.blockCount.value() == 0) return;
    if (record.name == u".journal") {
      for (const uint64_t journal : journals) pins_.push_back({first.startBlock.value(), journal});
    }
    const Format& format = format_by_name(to_utf8(record.name));
    if (!format.magic.empty() && files_.size() < kMostFiles) {
      files_.push_back({first.startBlock.value(), &format});
    }
  }

  const VolumeAge* age_at(uint64_t place) const {
    for (const auto& [range, age] : ages_) {
      if (overlap(range, {place, 1}).length > 0) return &age;
    }
    return nullptr;
  }

  // The layouts that fit best, without a volume header: one for each place at which volumes may
  // have begun.
  void infer() {
    if (own_nodes_ == 0 && !has_older_) return;
    std::vector<uint64_t> starts = scene_.starts;
    for (const Pin& pin : pins_) {
      for (uint64_t size = kLeastBlock; size <= kMostBlock; size *= 2) {
        if (pin.unit <= pin.place / size) starts.push_back(pin.place - pin.unit * size);
      }
    }
    const std::vector<Pin> contents = content_pins(files_, scene_.contents);
    const VotedGrid voted = most_voted(contents, kLeastBlock, kMostBlock);
    if (voted.votes >= votes_above_chance(contents.size(), scene_.source->size())) {
      starts.push_back(voted.grid.start);
    }
    std::ranges::sort(starts);
    starts.erase(std::unique(starts.begin(), starts.end()), starts.end());
    std::map<uint64_t, std::pair<int, Grid>> best;  // by where the space around it begins
    for (const uint64_t start : starts) {
      for (uint64_t size = kLeastBlock; size <= kMostBlock; size *= 2) {
        const Grid grid{start, size};
        const int pinned = static_cast<int>(
            std::ranges::count_if(pins_, [&](const Pin& pin) { return is_on(grid, pin); }));
        const int score = 4 * pinned + score_by_content(*scene_.source, grid, files_);
        auto& known = best[scene_.end_around(start)];
        if (score >= kLeastScore && score > known.first) known = {score, grid};
      }
    }
    for (const auto& [end, scored] : best) {
      if (scored.first > 0) {
        drafts_.push_back({scored.second, std::nullopt, static_cast<size_t>(scored.first)});
      }
    }
    // Names come back all the same.
    if (drafts_.empty() && !nodes_.empty()) {
      const uint64_t start = scene_.start_before(nodes_.front().trace.offset + 1);
      drafts_.push_back({{start, kUsualBlock}, std::nullopt, 0});
    }
  }

  void finish(Draft& draft) {
    const bool header = draft.geometry.has_value();
    Geometry geometry = draft.geometry.value_or(Geometry{});
    const Grid& grid = draft.grid;
    if (!header) {
      const uint64_t end = scene_.end_around(grid.start);
      geometry.header.signature = kSignaturePlus;
      geometry.header.blockSize = static_cast<uint32_t>(grid.unit_size);
      geometry.header.totalBlocks = static_cast<uint32_t>(
          std::min<uint64_t>((end - grid.start) / grid.unit_size, UINT32_MAX));
      if (draft.files > 0) add_trees(grid, geometry);
      geometry.notes.push_back(
          draft.files > 0
              ? "No volume header is left of it. Leaf nodes of its catalog tell the tree, the "
                "content of files where they lie."
              : "No volume header is left of it, and nothing tells where its blocks lie: contents "
                "may be others'.");
    }
    const ByteRange where{grid.start,
                          std::min(geometry.size(), scene_.source->size() - grid.start)};
    // With its catalog in place it can be read as it stands.
    const bool stands = scene_.current_at(grid.start) == nullptr && has_catalog(grid, geometry);
    geometry.confidence = stands && header ? 80 : header ? 70 : draft.files > 0 ? 60 : 30;
    std::optional<Found> found;
    if (!stands) {
      found.emplace();
      for (const Found::Nodes& nodes : nodes_) {
        if (overlap(nodes.trace.range(), where).length > 0) found->nodes.push_back(nodes);
      }
      if (found->nodes.empty()) return;
      if (const VolumeAge* age = age_at(grid.start)) {
        found->older_than = *age;
        if (!has_older_) return;
      }
    }
    assembled_.push_back({make_reader(scene_.source, where, geometry, std::move(found)), false});
  }

  bool has_catalog(const Grid& grid, const Geometry& geometry) const {
    const ForkData& fork = geometry.header.catalogFile;
    if (fork.totalBlocks.value() == 0) return false;
    const uint64_t catalog = grid.place_of(fork.extents[0].startBlock.value());
    return headless_catalogs_.contains(catalog) ||
           std::ranges::any_of(scene_.of_kind(kTreeHeader),
                               [&](const Trace& tree) { return tree.offset == catalog; });
  }

  // Trees that begin on the grid, as a volume header would name them; each is taken to lie in one
  // piece, if its first and last leaf are where it then has them.
  void add_trees(const Grid& grid, Geometry& geometry) {
    VolumeHeader& header = geometry.header;
    for (const Trace& trace : scene_.of_kind(kTreeHeader)) {
      HeaderRecord tree{};
      const uint64_t at = trace.offset - std::min(trace.offset, grid.start);
      if (scene_.is_held(trace.range()) || trace.offset < grid.start || at % grid.unit_size != 0 ||
          at >= geometry.size() ||
          !scene_.source
               ->read(trace.offset + sizeof(NodeDescriptor),
                      std::as_writable_bytes(std::span(&tree, 1)))
               .ok()) {
        continue;
      }
      const bool sound =
          is_leaf(trace, tree.firstLeafNode.value()) && is_leaf(trace, tree.lastLeafNode.value());
      ForkData& fork = trace.number == kCatalogTree   ? header.catalogFile
                       : trace.number == kExtentsTree ? header.extentsFile
                                                      : header.attributesFile;
      if (!sound || fork.totalBlocks.value() != 0) continue;
      const uint64_t size = tree.totalNodes.value() * trace.other;
      fork.logicalSize = size;
      const auto blocks = static_cast<uint32_t>(
          std::min<uint64_t>((size + grid.unit_size - 1) / grid.unit_size, UINT32_MAX));
      fork.totalBlocks = blocks;
      fork.extents[0].startBlock = static_cast<uint32_t>(at / grid.unit_size);
      fork.extents[0].blockCount = blocks;
    }
    if (header.catalogFile.totalBlocks.value() == 0) add_headless_catalog(grid, header);
  }

  // The catalog by its leaves alone, if they are all there.
  void add_headless_catalog(const Grid& grid, VolumeHeader& header) {
    std::vector<Trace> leaves;
    for (const Found::Nodes& nodes : nodes_) {
      if (nodes.trace.number == kCatalogTree && !nodes.slack_only) leaves.push_back(nodes.trace);
    }
    const std::optional<LeafChain> chain = find_leaf_chain(*scene_.source, leaves);
    if (!chain || chain->tree < grid.start || (chain->tree - grid.start) % grid.unit_size != 0) {
      return;
    }
    const uint64_t size = (uint64_t{chain->highest} + 1) * chain->node_size;
    const auto blocks = static_cast<uint32_t>((size + grid.unit_size - 1) / grid.unit_size);
    header.catalogFile.logicalSize = size;
    header.catalogFile.totalBlocks = blocks;
    header.catalogFile.extents[0].startBlock =
        static_cast<uint32_t>((chain->tree - grid.start) / grid.unit_size);
    header.catalogFile.extents[0].blockCount = blocks;
    headless_catalogs_.insert(chain->tree);
  }

  // Whether a tree's node is a leaf; number 0: it has none, which is as good.
  bool is_leaf(const Trace& tree, uint32_t number) const {
    if (number == 0) return tree.number != kCatalogTree;
    std::vector<std::byte> node(tree.other);
    return scene_.source->read(tree.offset + number * tree.other, node).ok() &&
           looks_like_node(node, kLeafNode);
  }

  const Scene& scene_;
  std::set<uint64_t> in_use_;  // places of nodes of current catalogs
  std::vector<std::pair<ByteRange, VolumeAge>> ages_;
  std::vector<Found::Nodes> nodes_;
  size_t count_ = 0;        // nodes
  size_t own_nodes_ = 0;    // runs of nodes that no current catalog uses
  bool has_older_ = false;  // records that no current volume can have made
  std::vector<Pin> pins_;
  std::vector<KnownFile> files_;
  std::vector<Draft> drafts_;
  std::set<uint64_t> headless_catalogs_;  // bytes of the source at which they begin
  std::vector<Assembled> assembled_;
};

}  // namespace

std::vector<Assembled> assemble(const Scene& scene) { return Assembler(scene).run(); }

}  // namespace undershelf::hfsplus
