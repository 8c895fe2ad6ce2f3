#include "fs/assembly/scene.h"

#include <algorithm>

namespace undershelf {

VolumeReader* Scene::current_at(uint64_t place) const {
  for (const Current& one : current) {
    const Volume& volume = one.reader->volume();
    if (overlap({volume.offset, volume.length}, {place, 1}).length > 0) return one.reader;
  }
  return nullptr;
}

void Scene::set_traces(std::vector<Trace> of_system, const FileSystem& system) {
  traces = std::move(of_system);
  const uint64_t size = source->size();
  const std::unique_ptr<Detector> detector = system.make_detector();
  std::erase_if(traces, [&](const Trace& trace) {
    const bool is_on_source = trace.length > 0 && trace.offset < size &&
                              trace.length <= size - trace.offset && trace.offset % kSweepStep == 0;
    const bool can_be =
        trace.kind == kHeaderTrace ? trace.number <= trace.offset : detector->can_have_found(trace);
    return !is_on_source || !can_be;
  });
  std::ranges::stable_sort(traces, {},
                           [](const Trace& trace) { return std::pair(trace.kind, trace.offset); });
}

std::span<const Trace> Scene::of_kind(uint32_t kind) const {
  const auto begin = std::ranges::lower_bound(traces, kind, {}, &Trace::kind);
  const auto end = std::ranges::upper_bound(traces, kind, {}, &Trace::kind);
  return {begin, end};
}

std::vector<Trace> Scene::free_of_kind(uint32_t kind) const {
  const std::span<const Trace> all = of_kind(kind);
  std::vector<Trace> free;
  std::ranges::copy_if(all, std::back_inserter(free),
                       [&](const Trace& trace) { return !is_held(trace.range()); });
  return free;
}

std::vector<Trace> thinned(std::span<const Trace> traces, size_t most) {
  std::vector<Trace> kept;
  const size_t count = std::min(most, traces.size());
  for (size_t i = 0; i < count; ++i) kept.push_back(traces[i * traces.size() / count]);
  return kept;
}

bool Scene::is_current(uint64_t start, std::string_view file_system) const {
  return std::ranges::any_of(current, [&](const Current& one) {
    const Volume& volume = one.reader->volume();
    return volume.offset == start && volume.file_system.starts_with(file_system);
  });
}

uint64_t Scene::start_before(uint64_t place) const {
  const auto next = std::ranges::lower_bound(starts, place);
  return next == starts.begin() ? 0 : *std::prev(next);
}

uint64_t Scene::end_around(uint64_t place) const {
  if (VolumeReader* reader = current_at(place)) {
    return std::min(source->size(), reader->volume().offset + reader->volume().length);
  }
  const auto next = std::ranges::upper_bound(starts, place);
  return next == starts.end() ? source->size() : std::min(source->size(), *next);
}

}  // namespace undershelf
