// A detector on hostile bytes, then what its file system puts together from what it saw, and from
// traces that a hostile shelf may hold: their number (1 byte), and 33 bytes each, before the
// source.
#include <boost/endian/conversion.hpp>

#include "fs/assembly/scene.h"
#include "sparse_source.h"
#include "sweep/content_starts.h"
#include "sweep/sweep.h"
#include "system.h"

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* data, size_t size) {
  using namespace undershelf;
  constexpr size_t kTrace = 33;
  std::span<const uint8_t> input(data, size);
  if (input.empty()) return 0;
  const size_t count = input[0];
  input = input.subspan(1);
  if (input.size() < count * kTrace) return 0;
  const auto source =
      std::make_shared<fuzz::SparseSource>(input.subspan(count * kTrace), uint64_t{16} << 20);

  const FileSystem& system = fuzz::target_system();
  std::vector<std::unique_ptr<Detector>> detectors;
  detectors.push_back(system.make_detector());
  detectors.push_back(make_content_detector());
  Scene scene;
  scene.source = source;
  SweepCallbacks callbacks;
  callbacks.progress = [](uint64_t, const SweepFinds&) { return true; };
  callbacks.checkpoint = [&](uint64_t, SweepFinds&& finds) {
    scene.traces.insert(scene.traces.end(), finds.traces[0].begin(), finds.traces[0].end());
    for (const Trace& trace : finds.traces[1]) {
      scene.contents.push_back({static_cast<unsigned>(trace.number), trace.offset});
    }
  };
  sweep(*source, {0, source->size()}, detectors, callbacks);
  for (size_t i = 0; i < count; ++i) {
    const uint8_t* at = data + 1 + i * kTrace;
    using boost::endian::load_little_u64;
    scene.traces.push_back({load_little_u64(at), load_little_u64(at + 8), at[32],
                            load_little_u64(at + 16), load_little_u64(at + 24)});
  }
  scene.set_traces(std::move(scene.traces), system);
  scene.is_held = [](const ByteRange&) { return false; };
  scene.starts = {0};
  for (Assembled& volume : system.assemble(scene)) {
    fuzz::NullSink sink;
    volume.reader->read(sink);
  }
  return 0;
}
