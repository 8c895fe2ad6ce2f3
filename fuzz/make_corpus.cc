// Inputs to begin with: what the readers and detectors look at on a real volume.
//   make_corpus IMAGE NAME DIR
// Writes DIR/fuzz-reader-<system>/NAME and DIR/fuzz-deep-<system>/NAME for each system that knows
// the volume, and DIR/fuzz-layout/NAME.
#include <filesystem>
#include <fstream>
#include <iostream>

#include "fs/detector.h"
#include "scan/survey.h"
#include "sparse_source.h"
#include "sweep/sweep.h"

namespace {

using namespace undershelf;
namespace fs = std::filesystem;

constexpr size_t kMostSectors = 160;  // larger inputs are mutated too slowly

void write(const fs::path& path, const std::vector<uint8_t>& bytes) {
  fs::create_directories(path.parent_path());
  std::ofstream(path, std::ios::binary)
      .write(reinterpret_cast<const char*>(bytes.data()),
             static_cast<std::streamsize>(bytes.size()));
}

// The sectors in which a detector sees something.
std::vector<uint8_t> traces_of(const FileSystem& system, const SourcePtr& source) {
  const auto recording = std::make_shared<fuzz::RecordingSource>(source);
  std::vector<std::unique_ptr<Detector>> detectors;
  detectors.push_back(system.make_detector());
  SweepCallbacks callbacks;
  callbacks.progress = [](uint64_t, const SweepFinds&) { return true; };
  callbacks.checkpoint = [&](uint64_t, SweepFinds&& finds) {
    for (const Trace& trace : finds.traces[0]) {
      std::vector<std::byte> bytes(std::min<uint64_t>(trace.length, 8192));
      recording->read(trace.offset, bytes);
    }
  };
  sweep(*source, {0, std::min<uint64_t>(source->size(), 16 << 20)}, detectors, callbacks);
  return recording->input(kMostSectors);
}

}  // namespace

int main(int count, char** arguments) {
  if (count != 4) {
    std::cerr << "make_corpus IMAGE NAME DIR\n";
    return 2;
  }
  const SourcePtr source = open_source(arguments[1]);
  const std::string name = arguments[2];
  const fs::path folder = arguments[3];
  for (const FileSystem& system : file_systems()) {
    const auto recording = std::make_shared<fuzz::RecordingSource>(source);
    const auto reader = system.open({recording, {0, source->size()}, {}});
    if (reader) {
      fuzz::NullSink sink;
      reader->read(sink);
      write(folder / ("fuzz-reader-" + std::string(system.name)) / name,
            recording->input(kMostSectors));
    }
    std::vector<uint8_t> deep = traces_of(system, source);
    if (deep.size() <= 4) continue;
    deep.insert(deep.begin(), 0);
    write(folder / ("fuzz-deep-" + std::string(system.name)) / name, deep);
  }
  const auto recording = std::make_shared<fuzz::RecordingSource>(source);
  survey(recording, {});
  write(folder / "fuzz-layout" / name, recording->input(kMostSectors));
}
