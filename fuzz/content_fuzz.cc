// One family of formats on hostile bytes: walks, and what decodes them, must end and stay inside.
#include <cstdlib>

#include "checking/decoders.h"
#include "content/families.h"

namespace {

const undershelf::content::Family& family() { return undershelf::content::UNDERSHELF_FUZZ_FAMILY; }

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* data, size_t size) {
  using namespace undershelf;
  content::MemoryBytes bytes(std::as_bytes(std::span(data, size)));
  const std::string_view format = family().recognise(bytes);
  if (format.empty()) return 0;
  if (content::known_format(format).empty()) std::abort();
  const content::Walk walk = family().walk(bytes, format);
  if (walk.level == content::Level::broken && walk.why.empty()) std::abort();
  if (walk.end && *walk.end > size + 65536) std::abort();
  const checking::Decoder decoder = checking::decoder_for(format);
  if (walk.level != content::Level::broken && decoder != nullptr) decoder(bytes, walk);
  return 0;
}
