// One file system on a space (model/range.h), as found.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "model/range.h"

namespace undershelf {

// A note on volumes of which neither a boot sector nor anything else tells the first byte.
inline constexpr const char* kAssumedBeginning =
    "Nothing tells where it begins: the beginning of its partition, or of the source, is given.";

struct Volume {
  std::string file_system;           // fat12, fat16, fat32, exfat, ntfs, hfsplus, hfsx
  std::string standing = "current";  // current or former
  std::string label;                 // UTF-8; may be empty
  std::string serial;                // as the file system prints it; may be empty
  uint64_t offset = 0;               // bytes, on the space
  uint64_t length = 0;               // bytes, as its own header says
  uint64_t before = 0;               // bytes of it that would lie before the space; not in `length`
  uint32_t sector_size = 512;        // bytes
  uint32_t cluster_size = 0;         // bytes
  uint64_t heap_offset = 0;          // byte of the space at which the first cluster starts
  uint64_t cluster_count = 0;        // clusters
  std::optional<uint64_t> used;      // bytes of clusters in use; nothing if that is not known
  int confidence = 0;                // 0-100: how much of what it claims is really there
  std::vector<std::string> notes;    // one sentence each
  // What the file system itself occupies besides its entries (headers, tables): bytes of the
  // source.
  std::vector<ByteRange> structures;

  // The clusters from number `cluster` on, counted from 0, as bytes of the space.
  ByteRange heap_from(uint64_t cluster) const {
    return {heap_offset + cluster * cluster_size, (cluster_count - cluster) * cluster_size};
  }
  ByteRange heap() const { return heap_from(0); }
};

// A place where the source or its metadata is broken.
struct Damage {
  ByteRange range;   // of the space; length 0 if only the place is known
  std::string what;  // one sentence
};

}  // namespace undershelf
