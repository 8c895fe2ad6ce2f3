// Every decoder: which one (1 byte), how much is asked of it (2 bytes), and what is stored.
#include <array>
#include <boost/endian/conversion.hpp>
#include <vector>

#include "stream/decode.h"

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* data, size_t size) {
  using namespace undershelf;
  if (size < 3) return 0;
  const auto stored = std::as_bytes(std::span(data + 3, size - 3));
  std::vector<std::byte> out(boost::endian::load_little_u16(data + 1));
  static constexpr std::array kCodecs = {Codec::xpress4k, Codec::xpress8k, Codec::xpress16k,
                                         Codec::lzx};
  const unsigned which = data[0] % (2 + kCodecs.size());
  if (which == 0) {
    decode_lznt1(stored, out);
  } else if (which == 1) {
    decode_zlib(stored, out);
  } else {
    static std::array<std::unique_ptr<ChunkDecoder>, kCodecs.size()> decoders;
    auto& decoder = decoders[which - 2];
    if (!decoder) decoder = std::make_unique<ChunkDecoder>(kCodecs[which - 2]);
    decoder->decode(stored, out);
  }
  return 0;
}
