// Where the parts of an exFAT volume lie: specification, section 3.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "fs/chained/geometry.h"
#include "fs/exfat/ondisk.h"
#include "source/source.h"

namespace undershelf::exfat {

// A cluster has up to 32 MiB; sectors have 512 to 4096 bytes. The FAT is the one in use.
struct Geometry : chained::Geometry {
  bool second_bitmap = false;  // the second allocation bitmap is the one in use
};

// Sizes and places from the fields of a boot sector; nothing if they contradict each other.
std::optional<Geometry> from_fields(const BootSector& boot);

// Reads both boot regions with their checksums and takes the better one. With `headless` also where
// only the backup is left. Nothing if this is no exFAT volume.
std::optional<Geometry> find_geometry(const SourcePtr& volume, bool headless);

}  // namespace undershelf::exfat
