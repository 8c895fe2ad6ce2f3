// From forks and attributes to streams.
#pragma once

#include <map>

#include "fs/hfsplus/catalog.h"
#include "fs/hfsplus/geometry.h"
#include "fs/pieces_source.h"
#include "fs/unit_space.h"
#include "model/entry.h"

namespace undershelf::hfsplus {

// Extents beyond the eighth, by file, fork and first block.
class Overflow {
 public:
  void add(const ExtentRecord& record);
  // The record that begins at a block of a fork; null if none is known.
  const ExtentRecord* find(uint32_t file, bool resource, uint64_t block) const;

 private:
  std::map<std::tuple<uint32_t, bool, uint32_t>, ExtentRecord> records_;
};

struct PlacedFork {
  Pieces pieces;         // whole blocks; what is not known is an unknown piece
  uint64_t missing = 0;  // bytes of the fork that no extent tells of
};

struct CatalogFile {
  std::shared_ptr<PiecesSource> stream;
  BTree tree;
};

// The catalog, by the volume header or by its leaves.
CatalogFile open_catalog(const SourcePtr& source, const Geometry& geometry, const UnitSpace& space,
                         std::span<const Overflow* const> overflow);

// `overflow` are asked in turn.
PlacedFork place_fork(const ForkData& fork, uint32_t file, bool resource, const UnitSpace& space,
                      std::span<const Overflow* const> overflow);

constexpr const char* kResourceFork = "resource-fork";
constexpr std::u16string_view kCompressionAttribute = u"com.apple.decmpfs";

// The main stream of a compressed file, from its compression attribute and its resource fork, which
// holds the content if the attribute does not. Encoding::compressed without a codec if the method
// is not a documented one.
Stream compressed_stream(const std::string& attribute, const Stream& resource_fork);

}  // namespace undershelf::hfsplus
