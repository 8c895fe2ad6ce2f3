#include "fs/detector.h"

#include <bit>
#include <boost/endian/conversion.hpp>

#include "fs/hfsplus/catalog.h"
#include "fs/hfsplus/geometry.h"
#include "fs/hfsplus/journal.h"
#include "fs/systems.h"
#include "fs/trace_kinds.h"

namespace undershelf::hfsplus {
namespace {

using boost::endian::load_big_u16;
using boost::endian::load_big_u32;
using boost::endian::load_big_u64;

constexpr size_t kMostNode = 32768;                        // bytes
constexpr uint64_t kCatalogKeys = 516, kExtentsKeys = 10;  // bytes: the longest keys of each tree

class HfsplusDetector : public Detector {
 public:
  size_t reach() const override { return kMostNode; }

  void look(const SweepBlock& block, std::vector<Trace>& found) const override {
    block.each_sector(may_be_of_volume, [&](size_t at, const unsigned char* bytes) {
      if (may_be_leaf(bytes)) {
        look_at_leaf(block, at, found);
      } else if (may_be_header(bytes)) {
        look_at_header(block, at, found);
      } else if (may_be_tree_header(bytes)) {
        look_at_tree_header(block, at, found);
      } else {
        const auto size = journal_size(block.bytes.subspan(at, kSweepStep));
        if (size) found.push_back({block.offset + at, kSweepStep, kJournal, *size, 0});
      }
    });
  }

  // Leaves of one tree that follow each other are one trace.
  void keep(const Trace& trace, std::vector<Trace>& kept) override {
    if (trace.kind == kLeafNodes && !kept.empty() && kept.back().goes_on_with(trace)) {
      kept.back().length += trace.length;
    } else {
      kept.push_back(trace);
    }
  }

  bool can_have_found(const Trace& trace) const override {
    if (trace.kind == kJournal) return true;
    const bool of_tree = trace.number >= kCatalogTree && trace.number <= kAttributesTree;
    const bool of_nodes = std::has_single_bit(trace.other) && trace.other >= kSweepStep &&
                          trace.other <= kMostNode && trace.length % trace.other == 0;
    return (trace.kind == kLeafNodes || trace.kind == kTreeHeader) && of_tree && of_nodes;
  }

 private:
  // Whether one of the things that are looked for begins with it.
  static bool may_be_of_volume(const unsigned char* bytes) {
    return (unsigned{may_be_leaf(bytes)} | unsigned{may_be_header(bytes)} |
            unsigned{may_be_tree_header(bytes)} | unsigned{may_be_journal(bytes)}) != 0;
  }
  static bool may_be_leaf(const unsigned char* bytes) {
    constexpr uint64_t kHeight = 1;  // of leaves
    return (load_big_u64(bytes + 8) & 0xFFFF0000FFFF0000) ==
           (uint64_t{kLeafNode} << 56 | kHeight << 48);
  }
  static bool may_be_header(const unsigned char* bytes) {
    const uint32_t signature = load_big_u32(bytes) >> 8;
    return (unsigned{signature == ('H' << 16 | '+' << 8)} |
            unsigned{signature == ('H' << 16 | 'X' << 8)}) != 0;
  }
  static bool may_be_tree_header(const unsigned char* bytes) {
    constexpr uint32_t kRecords = 3;
    return load_big_u32(bytes + 8) == (uint32_t{kHeaderNode} << 24 | kRecords);
  }
  static bool may_be_journal(const unsigned char* bytes) {
    constexpr uint16_t kMagic = 'J' << 8 | 'N', kSwapped = 'x' << 8 | 'L';
    const uint16_t first = load_big_u16(bytes);
    return (unsigned{first == kMagic} | unsigned{first == kSwapped}) != 0;
  }

  static void look_at_leaf(const SweepBlock& block, size_t at, std::vector<Trace>& found) {
    for (size_t size = 512; size <= kMostNode && at + size <= block.bytes.size(); size *= 2) {
      const Bytes node = block.bytes.subspan(at, size);
      if (!looks_like_node(node, kLeafNode)) continue;
      const NodeRecords records = records_of(node);
      if (records.records.empty()) continue;
      const Bytes first = records.records.front();
      uint64_t tree = 0;
      if (parse_catalog(first, true)) {
        tree = kCatalogTree;
      } else if (parse_extents(first, true)) {
        tree = kExtentsTree;
      } else if (parse_attribute(first, true)) {
        tree = kAttributesTree;
      } else {
        continue;
      }
      found.push_back({block.offset + at, size, kLeafNodes, tree, size});
      return;
    }
  }

  static void look_at_tree_header(const SweepBlock& block, size_t at, std::vector<Trace>& found) {
    const auto header = load<HeaderRecord>(block.bytes, at + sizeof(NodeDescriptor));
    if (!header) return;
    const size_t size = header->nodeSize.value();
    if (!std::has_single_bit(size) || size < 512 || size > kMostNode ||
        header->totalNodes.value() < header->freeNodes.value() || header->treeDepth.value() > 16) {
      return;
    }
    const uint64_t keys = header->maxKeyLength.value();
    const Tree tree = keys == kCatalogKeys   ? kCatalogTree
                      : keys == kExtentsKeys ? kExtentsTree
                                             : kAttributesTree;
    found.push_back({block.offset + at, size, kTreeHeader, tree, size});
  }

  // A volume header, or the alternate one: of the volume that starts 1024 bytes before it, or that
  // ends 1024 bytes behind its beginning.
  static void look_at_header(const SweepBlock& block, size_t at, std::vector<Trace>& found) {
    const auto header = load<VolumeHeader>(block.bytes, at);
    if (!header || !is_believable(*header)) return;
    const uint64_t place = block.offset + at;
    const uint64_t size = uint64_t{header->totalBlocks.value()} * header->blockSize.value();
    if (place >= kHeaderOffset) {
      found.push_back({place, kSweepStep, kHeaderTrace, place - kHeaderOffset, 0});
    }
    if (size > kHeaderOffset && place + kHeaderOffset >= size) {
      found.push_back({place, kSweepStep, kHeaderTrace, place + kHeaderOffset - size, 0});
    }
  }
};

}  // namespace
}  // namespace undershelf::hfsplus

std::unique_ptr<undershelf::Detector> undershelf::make_detector(Hfsplus) {
  return std::make_unique<hfsplus::HfsplusDetector>();
}
