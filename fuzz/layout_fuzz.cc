// Partition maps, and the survey of what lies where they say.
#include "layout/layout.h"
#include "scan/survey.h"
#include "sparse_source.h"

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* data, size_t size) {
  using namespace undershelf;
  const auto source =
      std::make_shared<fuzz::SparseSource>(std::span(data, size), uint64_t{UINT32_MAX} * 512);
  for (const uint32_t sector : {512U, 4096U}) read_layout(*source, sector);
  survey(source, {});
  return 0;
}
