// What file systems are given to put former and lost volumes together from what a sweep found.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string_view>
#include <vector>

#include "fs/assembly/votes.h"
#include "fs/detector.h"
#include "fs/fs.h"

namespace undershelf {

// What is known of a source when traces are put together.
struct Scene {
  SourcePtr source;
  ReadOptions options;
  std::vector<Trace> traces;           // of one file system, by kind, then by place
  std::vector<ContentStart> contents;  // where files of known formats begin, outside of those
  // Whether something that is in use now holds any of a range: then what lies there is no remnant,
  // but the present file systems' own, or a file's content.
  std::function<bool(const ByteRange&)> is_held;
  // A volume whose structures own their space now.
  struct Current {
    VolumeReader* reader = nullptr;
    // When the first of its files was made (changed, where that is all there is); nothing if none
    // tells. What lies on its clusters and is older than that comes from a volume before it.
    std::optional<Time> oldest;
  };
  std::vector<Current> current;  // all of them, by place
  // Bytes of the source at which volumes start or may have started: its beginning, partitions,
  // current volumes. Sorted.
  std::vector<uint64_t> starts;

  // The current volume that covers a place; null if none does.
  VolumeReader* current_at(uint64_t place) const;
  // Takes the traces of a file system, but for those that its detector cannot have told of such a
  // source: they may come from a shelf that anybody made. `source` must be set.
  void set_traces(std::vector<Trace> of_system, const FileSystem& system);
  // Traces of one kind, by place.
  std::span<const Trace> of_kind(uint32_t kind) const;
  // Those of them of which nothing in use holds any.
  std::vector<Trace> free_of_kind(uint32_t kind) const;
  // Whether a present volume of such a file system (a name, or how names begin) starts at a place.
  bool is_current(uint64_t start, std::string_view file_system) const;
  // The last of `starts` before a place; 0 if there is none.
  uint64_t start_before(uint64_t place) const;
  // Where the volume that covers `place` ends at the latest: with the source, or where the
  // partition or current volume around it does. Bytes of the source.
  uint64_t end_around(uint64_t place) const;
};

// At most `most` of them, spread evenly over all: what matters on a source lies anywhere on it.
std::vector<Trace> thinned(std::span<const Trace> traces, size_t most);

// Headers that are looked at. Each is held against all that was found.
constexpr size_t kMostHeaders = 1024;

// Calls `visit` with the place at which a volume would start and the header that says so, for each
// header (or backup of one) that nothing in use holds, if no present volume of that file system
// starts there.
template <typename Header, typename Visit>
void each_free_header(const Scene& scene, std::string_view file_system, const Visit& visit) {
  for (const Trace& trace : thinned(scene.of_kind(kHeaderTrace), kMostHeaders)) {
    Header header{};
    if (scene.is_held(trace.range()) || scene.is_current(trace.number, file_system)) continue;
    if (read_at(*scene.source, trace.offset, header)) visit(trace.number, header);
  }
}

// A volume that traces tell of. Whether it is a former one is not decided here.
struct Assembled {
  std::unique_ptr<VolumeReader> reader;
  // Set if these are further entries of a volume that is current: the one that starts there.
  bool adds_to_current = false;
};

}  // namespace undershelf
