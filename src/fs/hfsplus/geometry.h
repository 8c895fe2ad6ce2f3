// Where an HFS+ volume lies: TN1150, "Volume Header" and "HFS Wrapper".
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "fs/hfsplus/ondisk.h"
#include "model/pieces.h"
#include "source/source.h"

namespace undershelf::hfsplus {

struct Geometry {
  uint64_t start = 0;  // byte of what was searched at which the volume starts (behind a wrapper)
  VolumeHeader header{};
  int confidence = 0;  // 0-100
  std::vector<std::string> notes;
  // False: what tells its files was found, and nothing tells where its blocks lie.
  bool has_blocks = true;
  // Where only leaves tell of the catalog: those in use, then others, of which it may have been.
  Pieces catalog_leaves;
  size_t leaf_size = 0;  // bytes
  uint64_t leaves_in_use = 0;

  uint32_t block_size() const { return header.blockSize.value(); }  // bytes
  uint64_t block_count() const { return header.totalBlocks.value(); }
  uint64_t size() const { return block_count() * block_size(); }  // bytes
  bool case_sensitive_format() const { return header.signature.value() == kSignatureX; }
};

// Whether signature and sizes are those of a volume header.
bool is_believable(const VolumeHeader& header);

// Reads the volume header, or the alternate one, behind a wrapper if there is one. With `headless`
// also where only the alternate header is left. Nothing if this is no HFS+ volume.
std::optional<Geometry> find_geometry(const SourcePtr& volume, bool headless);

// As of FileSystem: by the alternate header at the end of the window, and the catalog it leads to.
uint64_t bytes_before(const SourcePtr& window);

}  // namespace undershelf::hfsplus
