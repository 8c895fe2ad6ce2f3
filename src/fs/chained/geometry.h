// What the layouts of FAT and exFAT have in common: a table of chains, and a heap of clusters.
#pragma once

#include <string>
#include <vector>

#include "fs/chained/chain.h"
#include "model/pieces.h"
#include "model/volume.h"

namespace undershelf::chained {

constexpr uint32_t kFirstCluster = 2;  // clusters are numbered from it

// All offsets are bytes in the volume. Clusters are numbered from 2.
struct Geometry {
  uint32_t sector_size = 512;  // bytes
  uint32_t cluster_size = 0;   // bytes
  uint64_t volume_size = 0;    // bytes, as the boot sector says
  uint64_t fat_offset = 0;     // of the first FAT, or the one in use
  uint64_t fat_size = 0;       // bytes of one FAT
  uint64_t heap_offset = 0;    // of cluster 2
  uint32_t cluster_count = 0;
  uint32_t root_cluster = 0;  // of the root folder; 0 if it has none, or none is known
  std::string serial;
  int confidence = 0;  // 0-100
  std::vector<std::string> notes;

  bool is_cluster(uint64_t number) const {
    return number >= kFirstCluster && number < uint64_t{cluster_count} + kFirstCluster;
  }
  uint64_t offset_of(uint64_t cluster) const {
    return heap_offset + (cluster - kFirstCluster) * cluster_size;
  }
  // The cluster that holds a byte; that must be in the heap.
  uint32_t cluster_at(uint64_t offset) const {
    return static_cast<uint32_t>((offset - heap_offset) / cluster_size + kFirstCluster);
  }
  // How many clusters so many bytes take.
  uint64_t clusters_of(uint64_t bytes) const {
    return bytes / cluster_size + (bytes % cluster_size != 0);
  }
  // Bytes in the volume; only of clusters that it has.
  std::vector<VolumeRange> ranges_of(const std::vector<Run>& runs) const;
  // All but the file system's name, the label and the structures. `base`: byte of the space at
  // which the volume starts.
  Volume volume_at(uint64_t base) const;
};

}  // namespace undershelf::chained
