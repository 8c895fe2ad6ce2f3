#include "fs/former.h"

#include <algorithm>

namespace undershelf {

VolumeReader* Scene::current_at(uint64_t place) const {
  for (VolumeReader* reader : current) {
    const Volume& volume = reader->volume();
    if (overlap({volume.offset, volume.length}, {place, 1}).length > 0) return reader;
  }
  return nullptr;
}

std::vector<Trace> Scene::of_kind(uint32_t kind) const {
  std::vector<Trace> found;
  std::ranges::copy_if(traces, std::back_inserter(found),
                       [&](const Trace& trace) { return trace.kind == kind; });
  return found;
}

bool Scene::is_current(uint64_t start, std::string_view file_system) const {
  return std::ranges::any_of(current, [&](VolumeReader* reader) {
    const Volume& volume = reader->volume();
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
