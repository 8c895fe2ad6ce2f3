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

uint64_t Scene::end_around(uint64_t place) const {
  if (VolumeReader* reader = current_at(place)) {
    return std::min(source->size(), reader->volume().offset + reader->volume().length);
  }
  const auto next = std::ranges::upper_bound(starts, place);
  return next == starts.end() ? source->size() : std::min(source->size(), *next);
}

}  // namespace undershelf
