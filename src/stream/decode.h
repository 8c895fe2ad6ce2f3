// Decoding of compressed streams, one unit at a time.
#pragma once

#include <cstddef>
#include <memory>
#include <span>

#include "model/entry.h"

namespace undershelf {

// LZNT1 ([MS-XCA] 2.5): fills `out` with what `stored` decodes to, and zeros behind that. False if
// the data are no such thing; `out` then holds what came before the fault.
bool decode_lznt1(std::span<const std::byte> stored, std::span<std::byte> out);

// One block of zlib, or, behind a first byte of xF, of bytes as they are: exactly `out`.
bool decode_zlib(std::span<const std::byte> stored, std::span<std::byte> out);

// The decoders of system-compressed files, by libwim. Not to be shared between threads.
class ChunkDecoder {
 public:
  explicit ChunkDecoder(Codec codec);  // xpress4k, xpress8k, xpress16k or lzx
  ~ChunkDecoder();
  ChunkDecoder(const ChunkDecoder&) = delete;
  ChunkDecoder& operator=(const ChunkDecoder&) = delete;
  // Decodes one chunk to exactly `out`. A chunk that is stored as long as that is not compressed.
  bool decode(std::span<const std::byte> stored, std::span<std::byte> out);

 private:
  struct Handle;
  std::unique_ptr<Handle> handle_;
};

}  // namespace undershelf
