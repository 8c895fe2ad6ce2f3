#include "stream/decode.h"

#include <wimlib.h>
#include <zlib.h>

#include <algorithm>
#include <array>
#include <bit>
#include <cstring>

namespace undershelf {
namespace {

constexpr size_t kChunk = 4096;  // bytes that a chunk of LZNT1 decodes to, at most

// One chunk of literals and back references. Returns the bytes written; nothing on a fault.
bool decode_chunk(std::span<const std::byte> in, std::span<std::byte> out, size_t& written) {
  size_t at = 0;
  written = 0;
  while (at < in.size()) {
    const auto tags = std::to_integer<unsigned>(in[at++]);
    for (unsigned bit = 0; bit < 8 && at < in.size(); ++bit) {
      if ((tags >> bit & 1U) == 0) {
        if (written == out.size()) return false;
        out[written++] = in[at++];
        continue;
      }
      if (at + 2 > in.size() || written == 0) return false;
      const unsigned pair =
          std::to_integer<unsigned>(in[at]) | std::to_integer<unsigned>(in[at + 1]) << 8;
      at += 2;
      // The farther into the chunk, the more bits the distance takes.
      const unsigned distance_bits =
          std::max(4U, static_cast<unsigned>(std::bit_width(written - 1)));
      const size_t length = (pair & ((1U << (16 - distance_bits)) - 1)) + 3;
      const size_t distance = (pair >> (16 - distance_bits)) + 1;
      if (distance > written || length > out.size() - written) return false;
      for (size_t i = 0; i < length; ++i, ++written) out[written] = out[written - distance];
    }
  }
  return true;
}

}  // namespace

bool decode_lznt1(std::span<const std::byte> stored, std::span<std::byte> out) {
  std::ranges::fill(out, std::byte{0});
  size_t at = 0;
  for (size_t to = 0; to < out.size() && at + 2 <= stored.size(); to += kChunk) {
    const unsigned header =
        std::to_integer<unsigned>(stored[at]) | std::to_integer<unsigned>(stored[at + 1]) << 8;
    if (header == 0) return true;
    at += 2;
    const size_t length = (header & 0x0FFF) + 1;
    if ((header >> 12 & 7) != 3 || length > stored.size() - at) return false;
    // A chunk may hold more than the file, which ends inside its last one.
    const auto target = out.subspan(to, std::min(kChunk, out.size() - to));
    std::span<const std::byte> plain = stored.subspan(at, length);
    std::array<std::byte, kChunk> decoded;
    if ((header & 0x8000) != 0) {
      size_t written = 0;
      const bool fine = decode_chunk(plain, decoded, written);
      plain = std::span(decoded).first(written);
      if (!fine && written < target.size()) {
        std::ranges::copy(plain, target.begin());
        return false;
      }
    }
    std::ranges::copy(plain.first(std::min(plain.size(), target.size())), target.begin());
    at += length;
  }
  return true;
}

bool decode_zlib(std::span<const std::byte> stored, std::span<std::byte> out) {
  if (stored.empty()) return false;
  if ((stored[0] & std::byte{0x0F}) == std::byte{0x0F}) {
    if (stored.size() - 1 != out.size()) return false;
    std::ranges::copy(stored.subspan(1), out.begin());
    return true;
  }
  uLongf length = out.size();
  return uncompress(reinterpret_cast<Bytef*>(out.data()), &length,
                    reinterpret_cast<const Bytef*>(stored.data()), stored.size()) == Z_OK &&
         length == out.size();
}

struct ChunkDecoder::Handle {
  wimlib_decompressor* decompressor = nullptr;
};

ChunkDecoder::ChunkDecoder(Codec codec) : handle_(std::make_unique<Handle>()) {
  const bool lzx = codec == Codec::lzx;
  constexpr size_t kLargestChunk = 32768;
  if (wimlib_create_decompressor(lzx ? WIMLIB_COMPRESSION_TYPE_LZX : WIMLIB_COMPRESSION_TYPE_XPRESS,
                                 kLargestChunk, &handle_->decompressor) != 0) {
    handle_->decompressor = nullptr;
  }
}

ChunkDecoder::~ChunkDecoder() { wimlib_free_decompressor(handle_->decompressor); }

bool ChunkDecoder::decode(std::span<const std::byte> stored, std::span<std::byte> out) {
  if (stored.size() == out.size()) {
    std::ranges::copy(stored, out.begin());
    return true;
  }
  return handle_->decompressor != nullptr && stored.size() < out.size() &&
         wimlib_decompress(stored.data(), stored.size(), out.data(), out.size(),
                           handle_->decompressor) == 0;
}

}  // namespace undershelf
