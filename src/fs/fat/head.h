// What lies before the clusters of a FAT volume whose boot sectors are gone: tables, a fixed root.
#pragma once

#include <span>
#include <vector>

#include "fs/assembly/scene.h"
#include "fs/fat/geometry.h"

namespace undershelf::fat {

constexpr uint64_t kMostRoot = 65536;  // bytes: of a fixed root folder, as drivers make them

// What a sweep found before the clusters of a volume: places are bytes of the source.
struct Head {
  uint64_t start = 0;              // where the volume begins
  uint64_t data = 0;               // where its clusters do
  bool high = false;               // folders name clusters that only FAT32 has
  std::span<const Trace> tables;   // kTable, on all of the source
  std::span<const Trace> entries;  // kFolderEntries, likewise
};

// Adds the type, and where tables and a fixed root lie, to a layout of which the clusters are
// known.
void infer_head(const Head& head, Geometry& geometry);

// The parts of a fixed root that were found: bytes in the volume.
std::vector<VolumeRange> parts_of_fixed_root(const Scene& scene, const Head& head);

}  // namespace undershelf::fat
