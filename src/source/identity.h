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

// The one answer to whose a source is. Empty if `source`, which was opened at `path`, is the one
// that `known` describes; otherwise how it differs, to stand in a sentence. Size and blocks tell;
// blocks that cannot be read now are passed over, unless none can be. Where the serial numbers of
// two devices are known, they and their sector sizes must agree as well, but where the user said
// that it is there now (`is_told`): it may be a copy.
std::string difference(const SourceIdentity& known, const Source& source, const std::string& path,
                       bool is_told = false);

}  // namespace undershelf
