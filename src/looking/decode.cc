#include "looking/decode.h"

#include <fontconfig/fontconfig.h>

#include <algorithm>

namespace undershelf::looking {

std::vector<uint8_t> whole(content::Bytes& bytes) {
  constexpr uint64_t kMostBytes = 256ULL << 20;
  const uint64_t size = std::min(bytes.size(), kMostBytes);
  std::vector<uint8_t> file;
  file.reserve(size);
  while (file.size() < size) {
    const auto part = bytes.at(file.size(), content::Bytes::kMostAtOnce);
    if (part.empty()) break;
    const auto* data = reinterpret_cast<const uint8_t*>(part.data());
    file.insert(file.end(), data, data + part.size());
  }
  return file;
}

}  // namespace undershelf::looking

extern "C" __attribute__((visibility("default"))) void undershelf_prepare() { FcInit(); }

extern "C" __attribute__((visibility("default"))) void undershelf_decode(
    undershelf::content::Bytes& bytes, uint32_t wanted, uint64_t most_pixels,
    undershelf::checking::Picture& picture) {
  using namespace undershelf::looking;
  picture = decode_heif(bytes, most_pixels);
  if (picture.pixels.empty()) picture = decode_page(bytes, wanted);
  if (picture.pixels.empty()) picture = decode_frame(bytes, most_pixels);
}
