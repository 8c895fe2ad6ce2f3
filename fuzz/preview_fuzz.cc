// What there is to see of a file: a picture, decoded and made small; how a document begins.
#include "checking/decode_picture.h"
#include "checking/office.h"
#include "content/walk.h"

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* data, size_t size) {
  using namespace undershelf;
  constexpr uint64_t kMostPixels = 1 << 20;
  const checking::Picture picture = checking::decode_picture({data, size}, 64, kMostPixels);
  if (!picture.pixels.empty()) checking::shrunk(picture, 64, 48);
  content::MemoryBytes bytes(std::as_bytes(std::span(data, size)));
  if (bytes.has(0, "PK")) checking::front_of_document(bytes, content::recognise(bytes).format);
  return 0;
}
