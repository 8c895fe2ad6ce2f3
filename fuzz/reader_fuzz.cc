// A reader on a hostile volume: with its header, and as one whose header is lost.
#include "sparse_source.h"
#include "system.h"

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* data, size_t size) {
  using namespace undershelf;
  const auto source =
      std::make_shared<fuzz::SparseSource>(std::span(data, size), uint64_t{UINT32_MAX} * 512);
  for (const bool headless : {false, true}) {
    ReadOptions options;
    options.headless = headless;
    const auto reader = fuzz::target_system().open({source, {0, source->size()}, options});
    if (!reader) continue;
    fuzz::NullSink sink;
    reader->read(sink);
    free_places(*reader, 64);
    if (reader->volume().cluster_count < 1 << 20) reader->used_bytes();
  }
  return 0;
}
