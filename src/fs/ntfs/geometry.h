// Where the parts of an NTFS volume lie.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "fs/ntfs/ondisk.h"
#include "source/source.h"

namespace undershelf::ntfs {

struct Geometry {
  uint32_t sector_size = 512;   // bytes: 256 to 4096
  uint32_t cluster_size = 0;    // bytes: 512 to 2 MiB
  uint32_t record_size = 1024;  // bytes: of a FILE record
  uint32_t block_size = 4096;   // bytes: of an index block
  uint64_t volume_size = 0;     // bytes, without the backup boot sector
  uint64_t mft_offset = 0;      // bytes in the volume: of record 0
  uint64_t mirror_offset = 0;   // bytes in the volume: of the copy of the first records
  std::string serial;
  int confidence = 0;  // 0-100
  std::vector<std::string> notes;
  // False: what tells its files was found, and nothing tells where its clusters lie.
  bool has_clusters = true;

  uint64_t cluster_count() const { return volume_size / cluster_size; }
};

// Sizes and places from the fields of a boot sector; nothing if they contradict each other.
std::optional<Geometry> from_fields(const BootSector& boot);

// Reads the boot sector at the start of `volume`, or its backup right behind the volume; each is
// weighed by whether FILE records are where it says. With `headless` a volume that has neither is
// inferred from $MFT's own record, if one is found near where formatters put it. Nothing if this is
// no NTFS volume.
std::optional<Geometry> find_geometry(const SourcePtr& volume, bool headless);

// As of FileSystem: by the backup of a boot sector at the end of the window, or by records of $MFT
// and its mirror that tell of each other.
uint64_t bytes_before(const SourcePtr& window);

}  // namespace undershelf::ntfs
