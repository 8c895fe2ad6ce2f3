// What begins a file and breaks off, put together by its content: it must end, and cut as it says.
#include <cstdlib>

#include "checking/examine.h"
#include "content/walk.h"

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* data, size_t size) {
  using namespace undershelf;
  constexpr uint64_t kCluster = 512;
  content::MemoryBytes bytes(std::as_bytes(std::span(data, size)));
  const checking::Examined found = checking::rejoin(bytes, kCluster);
  if (found.level == content::Level::broken && found.why[0] == '\0') std::abort();
  uint64_t before = 0;
  for (const checking::Cut& cut : found.cuts) {
    if (cut.at == 0) break;
    if (cut.at <= before || cut.at % kCluster != 0) std::abort();
    if (cut.gap == 0 || cut.gap % kCluster != 0 || cut.at + cut.gap > size) std::abort();
    before = cut.at;
  }
  return 0;
}
