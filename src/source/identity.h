// By what a source is known again: its size and hashes of blocks spread over it.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "source/source.h"

namespace undershelf {

struct BlockHash {
  ByteRange range;     // of the source
  std::string sha256;  // lower-case hexadecimal
};

struct SourceIdentity {
  std::string path;          // absolute; or a URI
  std::string serial;        // of the device, or of the one an image is a copy of; may be empty
  uint64_t skip = 0;         // bytes left out at its start
  uint64_t size = 0;         // bytes, without those
  uint32_t sector_size = 0;  // bytes
  std::vector<BlockHash> blocks;
};

// Hashes up to 64 blocks of 64 KiB, spread evenly from the first byte to the last; those that
// cannot be read in full are left out.
SourceIdentity identify(const std::string& path, const Source& source, uint64_t skip = 0);

// Empty if `source` is the one that `known` describes; otherwise a sentence saying how it differs.
// Blocks that cannot be read now are passed over.
std::string difference(const SourceIdentity& known, const Source& source);

}  // namespace undershelf
