// Where the parts of an exFAT volume lie: specification, section 3.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "fs/exfat/ondisk.h"
#include "source/source.h"

namespace undershelf::exfat {

// All offsets are bytes in the volume.
struct Geometry {
  uint32_t sector_size = 512;  // bytes: 512 to 4096
  uint32_t cluster_size = 0;   // bytes: up to 32 MiB
  uint64_t volume_size = 0;    // bytes
  uint64_t fat_offset = 0;     // of the FAT that is in use
  uint64_t fat_size = 0;       // bytes
  uint64_t heap_offset = 0;    // of cluster 2
  uint32_t cluster_count = 0;
  uint32_t root_cluster = 0;
  bool second_bitmap = false;  // the second allocation bitmap is the one in use
  std::string serial;
  int confidence = 0;  // 0-100
  std::vector<std::string> notes;

  bool is_cluster(uint64_t number) const {
    return number >= 2 && number < uint64_t{cluster_count} + 2;
  }
  uint64_t offset_of(uint64_t cluster) const { return heap_offset + (cluster - 2) * cluster_size; }
};

// Sizes and places from the fields of a boot sector; nothing if they contradict each other.
std::optional<Geometry> from_fields(const BootSector& boot);

// Reads both boot regions with their checksums and takes the better one. With `headless` also where
// only the backup is left. Nothing if this is no exFAT volume.
std::optional<Geometry> find_geometry(const Source& volume, bool headless);

}  // namespace undershelf::exfat
