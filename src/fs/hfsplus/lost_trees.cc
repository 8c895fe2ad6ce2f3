#include "fs/hfsplus/lost_trees.h"

#include <algorithm>
#include <set>

#include "fs/hfsplus/catalog.h"
#include "fs/hfsplus/leaf_chain.h"

namespace undershelf::hfsplus {
namespace {

// Whether a tree's node is a leaf, and in the catalog one of the volume that is asked for; number
// 0: it has none, which is as good.
bool is_leaf(const Source& source, const Trace& tree, uint32_t number, const Found& found) {
  if (number == 0) return tree.number != kCatalogTree;
  std::vector<std::byte> node(tree.other);
  if (!source.read(tree.offset + number * tree.other, node).ok() ||
      !looks_like_node(node, kLeafNode)) {
    return false;
  }
  if (tree.number != kCatalogTree) return true;
  const auto generation = found.generations->of_node(catalog_records(records_of(node).records));
  return !generation || *generation == found.generation;
}

void add_tree(const Source& source, const Trace& trace, const Found& found, Geometry& geometry) {
  const Grid grid = grid_of(geometry);
  HeaderRecord tree{};
  if (trace.offset < grid.start) return;
  const uint64_t at = trace.offset - grid.start;
  if (at % grid.unit_size != 0 || at >= geometry.size() ||
      !read_at(source, trace.offset + sizeof(NodeDescriptor), tree)) {
    return;
  }
  const bool sound = is_leaf(source, trace, tree.firstLeafNode.value(), found) &&
                     is_leaf(source, trace, tree.lastLeafNode.value(), found);
  VolumeHeader& header = geometry.header;
  ForkData& fork = trace.number == kCatalogTree   ? header.catalogFile
                   : trace.number == kExtentsTree ? header.extentsFile
                                                  : header.attributesFile;
  if (!sound || fork.totalBlocks.value() != 0) return;
  const uint64_t size = tree.totalNodes.value() * trace.other;
  fork.logicalSize = size;
  const auto blocks = static_cast<uint32_t>(
      std::min<uint64_t>((size + grid.unit_size - 1) / grid.unit_size, UINT32_MAX));
  fork.totalBlocks = blocks;
  fork.extents[0].startBlock = static_cast<uint32_t>(at / grid.unit_size);
  fork.extents[0].blockCount = blocks;
}

// The catalog by its leaves, if all those in use are there, and a header has not all of them.
void add_catalog_by_leaves(const Source& source, std::span<const ByteRange> journals,
                           const Found& found, Geometry& geometry) {
  std::vector<Trace> nodes;
  std::vector<Trace> outside;  // of journals
  for (const Found::Nodes& run : found.nodes) {
    if (run.trace.number != kCatalogTree || run.slack_only) continue;
    nodes.push_back(run.trace);
    const bool copies = std::ranges::any_of(journals, [&](const ByteRange& journal) {
      return overlap(journal, run.trace.range()).length > 0;
    });
    if (!copies) outside.push_back(run.trace);
  }
  const std::optional<LeafChain> chain = find_leaf_chain(source, outside);
  if (!chain) return;
  const ByteRange told = catalog_of(geometry);
  const auto is_told = [&](uint64_t place) {
    return overlap(told, {place, chain->node_size}).length == chain->node_size;
  };
  if (std::ranges::all_of(chain->places, is_told)) return;
  geometry.header.catalogFile = {};
  const std::set<uint64_t> in_use(chain->places.begin(), chain->places.end());
  geometry.leaf_size = chain->node_size;
  geometry.leaves_in_use = chain->places.size();
  const auto add = [&](uint64_t place) {
    append_piece(geometry.catalog_leaves, {Piece::Kind::range, place, chain->node_size});
  };
  std::ranges::for_each(chain->places, add);
  for (const Trace& run : nodes) {
    if (run.other != chain->node_size) continue;
    for (uint64_t at = run.offset; at < run.end(); at += run.other) {
      if (!in_use.contains(at)) add(at);
    }
  }
}

}  // namespace

ByteRange catalog_of(const Geometry& geometry) {
  const ForkData& fork = geometry.header.catalogFile;
  return {grid_of(geometry).place_of(fork.extents[0].startBlock.value()), fork.logicalSize.value()};
}

bool has_catalog(const Scene& scene, const Geometry& geometry) {
  if (!geometry.catalog_leaves.empty()) return true;
  if (geometry.header.catalogFile.totalBlocks.value() == 0) return false;
  const uint64_t catalog = catalog_of(geometry).offset;
  return std::ranges::any_of(scene.of_kind(kTreeHeader),
                             [&](const Trace& tree) { return tree.offset == catalog; });
}

void add_trees(const Scene& scene, std::span<const ByteRange> journals, const Found& found,
               Geometry& geometry) {
  for (const Trace& tree : scene.free_of_kind(kTreeHeader)) {
    add_tree(*scene.source, tree, found, geometry);
  }
  add_catalog_by_leaves(*scene.source, journals, found, geometry);
}

}  // namespace undershelf::hfsplus
