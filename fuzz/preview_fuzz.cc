// A picture, decoded and made small.
#include "checking/decode_picture.h"

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* data, size_t size) {
  namespace checking = undershelf::checking;
  constexpr uint64_t kMostPixels = 1 << 20;
  const checking::Picture picture = checking::decode_picture({data, size}, 64, kMostPixels);
  if (!picture.pixels.empty()) checking::shrunk(picture, 64, 48);
  return 0;
}
