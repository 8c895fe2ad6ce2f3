#include "fs/hfsplus/forks.h"

#include <algorithm>
#include <boost/endian/conversion.hpp>

namespace undershelf::hfsplus {
namespace {

constexpr uint64_t kUnit = 64 << 10;  // bytes that are compressed together

Stream inline_stream(std::string content) {
  Stream stream;
  stream.size = stream.valid_size = content.size();
  stream.placement = Placement::exact;
  append_piece(stream.pieces, {Piece::Kind::inline_bytes, 0, content.size()});
  stream.inline_data = std::move(content);
  return stream;
}

}  // namespace

void Overflow::add(const ExtentRecord& record) {
  records_.try_emplace({record.file, record.resource, record.start_block}, record);
}

const ExtentRecord* Overflow::find(uint32_t file, bool resource, uint64_t block) const {
  const auto found = records_.find({file, resource, static_cast<uint32_t>(block)});
  return found == records_.end() ? nullptr : &found->second;
}

CatalogFile open_catalog(const SourcePtr& source, const Geometry& geometry, const UnitSpace& space,
                         std::span<const Overflow* const> overflow) {
  if (!geometry.catalog_leaves.empty()) {
    const Pieces& leaves = geometry.catalog_leaves;
    const auto stream = std::make_shared<PiecesSource>(source, leaves, total_length(leaves));
    return {stream, BTree(stream, geometry.leaf_size, geometry.leaves_in_use)};
  }
  const ForkData& fork = geometry.header.catalogFile;
  const PlacedFork placed = place_fork(fork, kCatalogFile, false, space, overflow);
  const auto stream = std::make_shared<PiecesSource>(
      source, placed.pieces, std::min({fork.logicalSize.value(), geometry.size(), source->size()}));
  return {stream, BTree(stream)};
}

PlacedFork place_fork(const ForkData& fork, uint32_t file, bool resource, const UnitSpace& space,
                      std::span<const Overflow* const> overflow) {
  PlacedFork placed;
  const uint64_t size = fork.logicalSize.value();
  const uint64_t wanted = size / space.unit_size + (size % space.unit_size != 0);
  uint64_t blocks = 0;
  const auto add = [&](const Extent(&extents)[8]) {
    bool any = false;
    for (const Extent& extent : extents) {
      const uint64_t first = extent.startBlock.value();
      const uint64_t count = extent.blockCount.value();
      if (count == 0) break;
      placed.missing += space.append_run(placed.pieces, first, count);
      blocks += count;
      any = true;
    }
    return any;
  };
  bool more = add(fork.extents);
  while (more && blocks < wanted && blocks <= space.unit_count) {
    more = false;
    for (const Overflow* known : overflow) {
      const ExtentRecord* record = known->find(file, resource, blocks);
      if (record == nullptr) continue;
      more = add(record->extents);
      break;
    }
  }
  const uint64_t covered = blocks * space.unit_size;
  // More than the volume holds is damage.
  const uint64_t believable = std::min(size, space.size());
  if (covered < believable) {
    append_piece(placed.pieces, {Piece::Kind::unknown, 0, believable - covered});
    placed.missing += believable - covered;
  }
  return placed;
}

Stream compressed_stream(const std::string& attribute, const Stream& resource_fork) {
  constexpr size_t kHead = 16;  // magic, method, size: little-endian
  constexpr uint64_t kMostInline = 64 << 20;
  Stream stream;
  stream.encoding = Encoding::compressed;
  if (attribute.size() < kHead) return stream;
  const auto* bytes = reinterpret_cast<const unsigned char*>(attribute.data());
  const uint32_t method = boost::endian::load_little_u32(bytes + 4);
  const uint64_t size = boost::endian::load_little_u64(bytes + 8);
  const std::string_view rest = std::string_view(attribute).substr(kHead);
  if (method == 1) return inline_stream(std::string(rest.substr(0, size)));
  if (method == 3 && size > 0 && size <= kMostInline) {
    stream = inline_stream(std::string(rest));
    stream.encoding = Encoding::compressed;
    stream.codec = Codec::zlib;
    stream.unit = stream.size = stream.valid_size = size;
    return stream;
  }
  if (method == 4) {
    stream = resource_fork;
    stream.name.clear();
    stream.pieces = truncated(resource_fork.pieces, resource_fork.size);
    stream.encoding = Encoding::compressed;
    stream.codec = Codec::zlib_blocks;
    stream.unit = kUnit;
    stream.size = stream.valid_size = size;
    return stream;
  }
  // Not documented, or it does not decode: what is stored is all there is.
  const bool in_fork = method % 2 == 0 && resource_fork.size > 0;
  stream = in_fork ? resource_fork : inline_stream(std::string(rest));
  stream.name.clear();
  stream.encoding = Encoding::compressed;
  return stream;
}

}  // namespace undershelf::hfsplus
