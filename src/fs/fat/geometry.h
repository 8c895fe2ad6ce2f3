// Where the parts of a FAT volume lie. Boot sector: FAT specification 1.03, "Boot Sector and BPB".
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "fs/chained/geometry.h"
#include "fs/fat/ondisk.h"
#include "source/source.h"

namespace undershelf::fat {

enum class Type { fat12, fat16, fat32 };

// A cluster is 1 to 128 sectors of 512 to 4096 bytes. Only FAT32 has a root cluster.
struct Geometry : chained::Geometry {
  Type type = Type::fat16;
  unsigned fat_count = 2;
  std::optional<unsigned> active_fat;  // if only one is kept up to date (BPB_ExtFlags bit 7)
  uint64_t root_offset = 0;            // of the fixed root folder (FAT12, FAT16)
  uint64_t root_size = 0;              // bytes; 0 on FAT32
  u8 media = 0xF8;
  std::string boot_label;  // as in the boot sector, in the OEM code page; may be empty
};

// Sizes and places from the fields of a boot sector; nothing if they contradict each other.
std::optional<Geometry> from_fields(const BootSector& boot);
// Adds what else it tells: root cluster, active FAT, serial number, label.
void add_identity(const BootSector& boot, Geometry& geometry);

// Reads and weighs what stands at the start of `volume`; where that is damaged, the backup boot
// sector, or else the FATs and the folders. Nothing if that is no FAT volume. Without `headless`
// something that is a boot sector must be there.
std::optional<Geometry> find_geometry(const SourcePtr& volume, bool headless);

// Whether a FAT begins as one must: the media byte, then set bits (specification, "FAT Data
// Structure", the two reserved entries). `copy`: its number, from 0.
bool begins_like_fat(const Source& volume, const Geometry& geometry, unsigned copy);
// Whether the one that is kept up to date, or any if all are, does.
bool begins_like_fat(const Source& volume, const Geometry& geometry);

// An entry's first cluster. Only FAT32 has the high half; others keep other things there.
uint32_t first_cluster(const DirectoryEntry& entry, const Geometry& geometry);
bool is_dot(const DirectoryEntry& entry);      // the entry `.`
bool is_dot_dot(const DirectoryEntry& entry);  // the entry `..`

std::string_view name_of(Type type);  // fat12, fat16, fat32
// Bits of an entry of the table.
constexpr unsigned bits_of(Type type) {
  return type == Type::fat12 ? 12 : type == Type::fat16 ? 16 : 32;
}

}  // namespace undershelf::fat
