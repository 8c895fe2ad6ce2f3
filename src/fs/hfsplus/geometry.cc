#include "fs/hfsplus/geometry.h"

#include <fmt/format.h>

#include <bit>
#include <span>

namespace undershelf::hfsplus {
namespace {

bool is_plausible(const ForkData& fork, uint64_t blocks) {
  const uint64_t first = fork.extents[0].startBlock.value();
  const uint64_t count = fork.extents[0].blockCount.value();
  return count > 0 && first + count <= blocks;
}

}  // namespace

bool is_believable(const VolumeHeader& h) {
  const uint16_t signature = h.signature.value();
  const uint64_t block_size = h.blockSize.value();
  const uint64_t blocks = h.totalBlocks.value();
  return (signature == kSignaturePlus || signature == kSignatureX) &&
         std::has_single_bit(block_size) && block_size >= 512 && block_size <= 1 << 20 &&
         blocks != 0;
}

namespace {

// Whether the first node of a B-tree stands there: TN1150, "Node Descriptor", "Header Record".
bool is_tree(const Source& volume, uint64_t at) {
  struct Head {
    NodeDescriptor descriptor;
    HeaderRecord header;
  } head{};
  if (!read_at(volume, at, head)) return false;
  const uint64_t node_size = head.header.nodeSize.value();
  return head.descriptor.kind == kHeaderNode && head.descriptor.height == 0 &&
         std::has_single_bit(node_size) && node_size >= 512 && node_size <= 32768;
}

bool is_tree(const Source& volume, const Geometry& g, const ForkData& fork) {
  const uint64_t blocks = fork.totalBlocks.value();
  return is_plausible(fork, g.block_count()) &&
         fork.logicalSize.value() == blocks * g.block_size() &&
         is_tree(volume, g.start + uint64_t{fork.extents[0].startBlock.value()} * g.block_size());
}

// The header at `at`, of a volume that starts at `start`.
std::optional<Geometry> from_header(const Source& volume, uint64_t at, uint64_t start) {
  Geometry g;
  g.start = start;
  if (!read_at(volume, at, g.header)) return std::nullopt;
  const VolumeHeader& h = g.header;
  const uint16_t signature = h.signature.value();
  const uint64_t blocks = h.totalBlocks.value();
  if (!is_believable(h)) return std::nullopt;
  const bool version = h.version.value() == (signature == kSignaturePlus ? 4 : 5);
  const bool counts = h.freeBlocks.value() <= blocks;
  const bool catalog = is_tree(volume, g, h.catalogFile);
  const bool extents = is_plausible(h.extentsFile, blocks);
  const bool bitmap = is_plausible(h.allocationFile, blocks);
  if (int{version} + int{counts} + 2 * int{catalog} + int{extents} + int{bitmap} < 4) {
    return std::nullopt;
  }
  g.confidence = 10 + 10 * version + 10 * counts + 40 * catalog + 15 * extents + 15 * bitmap;
  const uint32_t attributes = h.attributes.value();
  if ((attributes & kUnmountedBit) == 0) {
    g.notes.emplace_back("It was not unmounted cleanly: what was written last may be incomplete.");
  }
  if ((attributes & kInconsistentBit) != 0) {
    g.notes.emplace_back(
        "It is marked as inconsistent: a driver stopped in the middle of a change.");
  }
  return g;
}

// Where an HFS wrapper says that the volume inside it starts; 0 if there is no wrapper.
uint64_t embedded_start(const Source& volume) {
  MasterDirectoryBlock block{};
  if (!read_at(volume, kHeaderOffset, block) || block.drSigWord.value() != kSignatureWrapper ||
      block.drEmbedSigWord.value() != kSignaturePlus) {
    return 0;
  }
  return uint64_t{block.drAlBlSt.value()} * 512 +
         uint64_t{block.drEmbedStart.value()} * block.drAlBlkSiz.value();
}

// Takes what leads to a tree from the alternate header where the header's own does not.
void mend_forks(const Source& volume, Geometry& g) {
  const uint64_t at = g.start + g.size() - kHeaderOffset;
  std::optional<Geometry> alternate;
  for (const uint64_t place : {at, volume.size() / 512 * 512 - kHeaderOffset}) {
    if (!alternate && place < volume.size()) alternate = from_header(volume, place, g.start);
  }
  if (!alternate || alternate->block_size() != g.block_size()) return;
  bool mended = false;
  for (const auto fork :
       {&VolumeHeader::catalogFile, &VolumeHeader::extentsFile, &VolumeHeader::attributesFile}) {
    if (is_tree(volume, g, g.header.*fork) || !is_tree(volume, g, alternate->header.*fork))
      continue;
    g.header.*fork = alternate->header.*fork;
    mended = true;
  }
  if (mended) {
    g.notes.emplace_back(
        "What leads to its trees is wrong in the volume header; the alternate one "
        "was used.");
  }
}

}  // namespace

uint64_t bytes_before(const SourcePtr& window) {
  for (uint64_t back = 2; back < 18 && back * 512 <= window->size(); ++back) {
    const uint64_t at = window->size() / 512 * 512 - back * 512;
    const auto alternate = from_header(*window, at, 0);
    if (!alternate) continue;
    // It stands in the last but one 512 bytes of a partition, whose last block may be cut.
    const uint64_t end = at + kHeaderOffset;
    const uint64_t block = alternate->block_size();
    const uint64_t catalog = alternate->header.catalogFile.extents[0].startBlock.value() * block;
    for (uint64_t cut = 0; cut < block; cut += 512) {
      const uint64_t size = alternate->size() + cut;
      if (size <= end || catalog < size - end) continue;
      if (is_tree(*window, catalog - (size - end))) return size - end;
    }
  }
  return 0;
}

std::optional<Geometry> find_geometry(const SourcePtr& source, bool headless) {
  const Source& volume = *source;
  constexpr int kSure = 80;
  const uint64_t start = embedded_start(volume);
  std::optional<Geometry> g = from_header(volume, start + kHeaderOffset, start);
  if (g && start != 0) g->notes.emplace_back("It lies inside an HFS wrapper.");
  // The alternate header: where the header says, or at the end of what is searched.
  if ((!g && headless) || (g && g->confidence < kSure)) {
    std::vector<uint64_t> places;
    if (g) places.push_back(start + g->size() - kHeaderOffset);
    for (uint64_t back = 0; back < 16 && volume.size() > kHeaderOffset + back * 512; ++back) {
      places.push_back(volume.size() / 512 * 512 - kHeaderOffset - back * 512);
    }
    for (const uint64_t at : places) {
      auto alternate = from_header(volume, at, start);
      if (!alternate || (g && alternate->confidence <= g->confidence)) continue;
      // What it ends would begin before what is searched.
      if (start + alternate->size() > at + kHeaderOffset &&
          !is_tree(volume, *alternate, alternate->header.catalogFile)) {
        continue;
      }
      // It stands in the last but one 512 bytes; the last block may be cut by the partition's end.
      if (start + alternate->size() + alternate->block_size() < at + kHeaderOffset) continue;
      g = std::move(alternate);
      g->confidence -= 10;
      g->notes.emplace_back("The volume header is lost or wrong; the alternate one was used.");
      break;
    }
  }
  if (g) mend_forks(volume, *g);
  if (g && start + g->size() > volume.size()) {
    g->notes.push_back(fmt::format("The image ends {} bytes before the volume does.",
                                   start + g->size() - volume.size()));
  }
  return g;
}

}  // namespace undershelf::hfsplus
