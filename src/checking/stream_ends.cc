// Where packed streams end that are followed by what is not theirs: their own libraries tell how
// much of it they took.
#include <bzlib.h>
#include <lzma.h>
#include <zlib.h>

#include <algorithm>
#include <array>
#include <memory>

#include "checking/decoders.h"
#include "checking/inflate.h"

namespace undershelf::checking {
namespace {

using content::Bytes;

constexpr size_t kPart = 256 << 10;  // bytes
using Out = std::array<char, kPart>;

Decoded end_of_gzip(Bytes& bytes, uint64_t at) {
  constexpr int kGzip = 16 + MAX_WBITS;
  const Inflated done = inflate_from(bytes, at, bytes.size() - at, kGzip, UINT64_MAX);
  return {done.end, done.whole};
}

Decoded end_of_bzip2(Bytes& bytes, uint64_t at) {
  bz_stream stream{};
  if (BZ2_bzDecompressInit(&stream, 0, 0) != BZ_OK) return {};
  const auto out = std::make_unique<Out>();
  int code = BZ_OK;
  while (code == BZ_OK) {
    const auto part = bytes.at(at, kPart);
    if (part.empty()) break;
    stream.next_in = const_cast<char*>(reinterpret_cast<const char*>(part.data()));
    stream.avail_in = static_cast<unsigned>(part.size());
    while (code == BZ_OK && stream.avail_in > 0) {
      stream.next_out = out->data();
      stream.avail_out = static_cast<unsigned>(out->size());
      code = BZ2_bzDecompress(&stream);
    }
    at += part.size() - stream.avail_in;
  }
  BZ2_bzDecompressEnd(&stream);
  return {at, code == BZ_STREAM_END};
}

Decoded end_of_xz(Bytes& bytes, uint64_t at) {
  constexpr uint64_t kMostMemory = 256 << 20;  // bytes
  lzma_stream stream = LZMA_STREAM_INIT;
  if (lzma_stream_decoder(&stream, kMostMemory, 0) != LZMA_OK) return {};
  const auto out = std::make_unique<Out>();
  lzma_ret code = LZMA_OK;
  while (code == LZMA_OK) {
    const auto part = bytes.at(at, kPart);
    if (part.empty()) break;
    stream.next_in = reinterpret_cast<const uint8_t*>(part.data());
    stream.avail_in = part.size();
    while (code == LZMA_OK && stream.avail_in > 0) {
      stream.next_out = reinterpret_cast<uint8_t*>(out->data());
      stream.avail_out = out->size();
      code = lzma_code(&stream, LZMA_RUN);
    }
    at += part.size() - stream.avail_in;
  }
  lzma_end(&stream);
  return {at, code == LZMA_STREAM_END};
}

// Streams that follow each other are one file: what packs on several cores writes one a part. (RFC
// 1952, 2.2; the .xz file format, 2)
Decoded end_of_streams(Bytes& bytes, std::string_view mark,
                       Decoded (*end_of_stream)(Bytes& bytes, uint64_t at)) {
  constexpr uint64_t kSector = 512;
  Decoded decoded;
  for (uint64_t at = 0; bytes.has(at, mark);) {
    const Decoded next = end_of_stream(bytes, at);
    // Where a sector begins, it may be another file.
    if (!next.whole) return decoded.whole && at % kSector == 0 ? decoded : next;
    decoded = next;
    at = next.end;
  }
  return decoded;
}

}  // namespace

std::optional<Decoded> end_by_decoding(Bytes& bytes, std::string_view format) {
  if (format == "gzip") return end_of_streams(bytes, "\x1F\x8B\x08", end_of_gzip);
  if (format == "bzip2") return end_of_streams(bytes, "BZh", end_of_bzip2);
  if (format == "xz") return end_of_streams(bytes, "\xFD\x37zXZ", end_of_xz);
  return std::nullopt;
}

}  // namespace undershelf::checking
