// PSD: four sections of stated length, then the merged picture, compressed by rows or not.
#include "content/families.h"

namespace undershelf::content {
namespace {

std::string_view recognise(Bytes& bytes) {
  const uint16_t version = bytes.be16(4);
  return bytes.has(0, "8BPS") && (version == 1 || version == 2) ? "psd" : "";
}

Walk walk(Bytes& bytes, std::string_view) {
  const bool large = bytes.be16(4) == 2;
  const uint64_t channels = bytes.be16(12);
  const uint64_t rows = uint64_t{bytes.be32(14)};
  const uint64_t row_bytes = (uint64_t{bytes.be32(18)} * bytes.be16(22) + 7) / 8;
  uint64_t at = 26;
  for (int section = 0; section < 3; ++section) {
    const bool wide = large && section == 2;
    const uint64_t length = wide ? bytes.be64(at) : bytes.be32(at);
    const uint64_t head = wide ? 8 : 4;
    if (length > bytes.size() || at + head + length + 2 > bytes.size()) {
      return broken(std::min(at, bytes.size()), "It ends inside one of its sections.");
    }
    at += head + length;
  }
  const uint16_t compression = bytes.be16(at);
  at += 2;
  if (rows == 0 || channels == 0 || rows > 300'000 || channels > 56) {
    return broken(14, "Its header has impossible numbers.");
  }
  if (compression == 0) {
    at += rows * channels * row_bytes;
  } else if (compression == 1) {
    const uint64_t width = large ? 4 : 2;
    const uint64_t table = at;
    at += rows * channels * width;
    for (uint64_t row = 0; row < rows * channels; ++row) {
      const uint64_t place = table + row * width;
      if (place + width > bytes.size()) break;
      at += large ? bytes.be32(place) : bytes.be16(place);
    }
  } else {
    return endless(at);
  }
  if (at > bytes.size()) return broken(bytes.size(), "It ends before its last row.");
  return ended(Level::consistent, at);
}

void describe(Bytes& bytes, std::string_view, Description& found) {
  found.put_size(bytes.be32(18), bytes.be32(14));
}

}  // namespace

const Family kPsd{.recognise = recognise, .walk = walk, .describe = describe};

}  // namespace undershelf::content
