#include "fs/fat/geometry.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <bit>
#include <cstring>
#include <span>

#include "fs/fat/inference.h"

namespace undershelf::fat {

std::optional<Geometry> from_fields(const BootSector& boot) {
  Geometry g;
  g.sector_size = boot.BPB_BytsPerSec.value();
  const uint32_t per_cluster = boot.BPB_SecPerClus;
  const uint64_t reserved = boot.BPB_RsvdSecCnt.value();
  const bool fat32 = boot.BPB_FATSz16.value() == 0;
  // FAT32 has no such root; there the field must be 0, and says nothing if it is not.
  const uint64_t root_entries = fat32 ? 0 : boot.BPB_RootEntCnt.value();
  if (g.sector_size < 512 || g.sector_size > 4096 || !std::has_single_bit(g.sector_size) ||
      per_cluster == 0 || !std::has_single_bit(per_cluster) || reserved == 0 ||
      boot.BPB_NumFATs == 0 || boot.BPB_NumFATs > 4) {
    return std::nullopt;
  }
  const uint64_t fat_sectors =
      fat32 ? boot.fat32.BPB_FATSz32.value() : uint64_t{boot.BPB_FATSz16.value()};
  uint64_t total = boot.BPB_TotSec16.value();
  if (total == 0) total = boot.BPB_TotSec32.value();
  const uint64_t root_sectors = (root_entries * 32 + g.sector_size - 1) / g.sector_size;
  const uint64_t before_data = reserved + boot.BPB_NumFATs * fat_sectors + root_sectors;
  if (fat_sectors == 0 || total <= before_data || (!fat32 && root_entries == 0)) {
    return std::nullopt;
  }
  const uint64_t clusters = (total - before_data) / per_cluster;
  if (clusters == 0 || clusters > 0x0FFFFFF5) return std::nullopt;

  g.type = fat32 ? Type::fat32 : clusters < 4085 ? Type::fat12 : Type::fat16;
  g.cluster_size = g.sector_size * per_cluster;
  g.volume_size = total * g.sector_size;
  g.fat_offset = reserved * g.sector_size;
  g.fat_size = fat_sectors * g.sector_size;
  g.fat_count = boot.BPB_NumFATs;
  g.root_offset = g.fat_offset + g.fat_count * g.fat_size;
  g.root_size = root_entries * 32;
  g.heap_offset = before_data * g.sector_size;
  g.cluster_count = static_cast<uint32_t>(clusters);
  g.media = boot.BPB_Media;
  const uint64_t bits = fat32 ? 32 : g.type == Type::fat16 ? 16 : 12;
  const uint64_t described = g.fat_size * 8 / bits;
  if (described < clusters + 2) {
    if (!fat32 && described <= 2) return std::nullopt;
    g.notes.push_back(fmt::format("The FAT describes {} of {} clusters.", described - 2, clusters));
  }
  return g;
}

void add_identity(const BootSector& boot, Geometry& g) {
  const bool fat32 = g.type == Type::fat32;
  if (fat32) {
    g.root_cluster = boot.fat32.BPB_RootClus.value();
    const unsigned flags = boot.fat32.BPB_ExtFlags.value();
    if ((flags & 0x80) != 0 && (flags & 0x0F) < g.fat_count) g.active_fat = flags & 0x0F;
  }
  const VolumeFields& fields = fat32 ? boot.fat32.volume : boot.fat16;
  const u8 signature = fields.BS_BootSig;
  if (signature == 0x28 || signature == 0x29) {
    const uint32_t serial = fields.BS_VolID.value();
    g.serial = fmt::format("{:04X}-{:04X}", serial >> 16, serial & 0xFFFF);
  }
  if (signature == 0x29) {
    const char* label = fields.BS_VolLab;
    g.boot_label.assign(label, 11);
    g.boot_label.erase(g.boot_label.find_last_not_of(std::string(" \0", 2)) + 1);
    if (g.boot_label == "NO NAME") g.boot_label.clear();
  }
}

bool begins_like_fat(const Source& volume, const Geometry& g, unsigned copy) {
  std::array<std::byte, 4> head{};
  if (!volume.read(g.fat_offset + copy * g.fat_size, head).ok()) return false;
  const auto byte = [&](int i) { return std::to_integer<unsigned>(head[i]); };
  if (byte(0) != g.media || byte(1) != 0xFF) return false;
  return g.type != Type::fat32 || (byte(2) == 0xFF && (byte(3) & 0x0F) == 0x0F);
}

bool begins_like_fat(const Source& volume, const Geometry& g) {
  if (g.active_fat) return begins_like_fat(volume, g, *g.active_fat);
  for (unsigned copy = 0; copy < g.fat_count; ++copy) {
    if (begins_like_fat(volume, g, copy)) return true;
  }
  return false;
}

namespace {

// The media byte stands in the boot sector and in each FAT: one of them may be wrong.
void mend_media(const Source& volume, Geometry& g) {
  if (begins_like_fat(volume, g)) return;
  Geometry other = g;
  for (unsigned media = 0xF0; media <= 0xFF; ++media) {
    other.media = static_cast<u8>(media);
    if ((media == 0xF0 || media >= 0xF8) && begins_like_fat(volume, other)) {
      g.media = other.media;
      return;
    }
  }
}

// The geometry that a boot sector at `at` (bytes in the volume) tells, weighed by what is there.
std::optional<Geometry> from_boot_sector(const Source& volume, uint64_t at) {
  BootSector boot{};
  if (!read_at(volume, at, boot)) return std::nullopt;
  std::optional<Geometry> g = from_fields(boot);
  if (!g) return std::nullopt;

  const bool jump = boot.BS_jmpBoot[0] == 0xEB || boot.BS_jmpBoot[0] == 0xE9;
  const bool signature = boot.signature[0] == 0x55 && boot.signature[1] == 0xAA;
  mend_media(volume, *g);
  const bool media = g->media == 0xF0 || g->media >= 0xF8;
  int fats = 0;
  for (unsigned copy = 0; copy < g->fat_count; ++copy) fats += begins_like_fat(volume, *g, copy);
  // One mark may be damaged; fields that happen to agree in other data have none of them.
  if (int{jump} + int{signature} + int{media} + std::min(fats, 2) < 3) return std::nullopt;

  add_identity(boot, *g);
  g->confidence = 50 + 5 * jump + 5 * signature + 10 * media + (fats > 0 ? 20 : 0) +
                  (fats == static_cast<int>(g->fat_count) ? 10 : 0);
  if (!signature) g->notes.emplace_back("The boot sector lacks its signature 55 AA.");
  if (fats == 0) g->notes.emplace_back("No FAT begins as a FAT does: it may have been wiped.");
  return g;
}

// What the layout that is used instead cannot tell, the boot sector may still.
void adopt_identity(const Geometry& from, Geometry& to) {
  if (to.serial.empty()) to.serial = from.serial;
  if (to.boot_label.empty()) to.boot_label = from.boot_label;
}

// A layout that something on the volume proposes.
struct Proposal {
  Geometry geometry;
  Merit merit;
};

// The boot sector at `at`, weighed by what it leads to.
std::optional<Proposal> propose(const SourcePtr& volume, uint64_t at) {
  std::optional<Geometry> g = from_boot_sector(*volume, at);
  if (!g) return std::nullopt;
  const Merit merit = weigh(volume, *g);
  return Proposal{std::move(*g), merit};
}

}  // namespace

std::optional<Geometry> find_geometry(const SourcePtr& source, bool headless) {
  const Source& volume = *source;
  std::optional<Proposal> best = propose(source, 0);
  if (!best && !headless) return std::nullopt;
  if (!best || !best->merit.is_beyond_doubt()) {
    // The backup of FAT32 lies in sector 6 (specification, BPB_BkBootSec).
    for (const uint64_t sector : {512U, 4096U}) {
      std::optional<Proposal> backup = propose(source, 6 * sector);
      if (!backup || backup->geometry.type != Type::fat32 ||
          backup->geometry.sector_size != sector) {
        continue;
      }
      if (best && backup->merit.total() <= best->merit.total()) continue;
      best = std::move(backup);
      best->geometry.confidence -= 10;
      best->geometry.notes.emplace_back("The boot sector is lost or wrong; its backup was used.");
    }
    if (!best || !best->merit.is_beyond_doubt()) {
      std::optional<Geometry> inferred = infer_geometry(source);
      const Merit merit = inferred ? weigh(source, *inferred) : Merit{};
      // Where a FAT begins as the boot sector says, another one is an image's inside a file.
      const bool contradicts = best && inferred && begins_like_fat(volume, best->geometry) &&
                               inferred->fat_offset != best->geometry.fat_offset &&
                               !best->merit.is_doubtful();
      if (inferred && !contradicts && (!best || merit.total() > best->merit.total())) {
        if (best) adopt_identity(best->geometry, *inferred);
        best = Proposal{std::move(*inferred), merit};
      }
    }
  }
  if (!best) return std::nullopt;
  Geometry& g = best->geometry;
  if (g.volume_size > volume.size()) {
    g.notes.push_back(fmt::format("The image ends {} bytes before the volume does.",
                                  g.volume_size - volume.size()));
  }
  return std::move(g);
}

uint32_t first_cluster(const DirectoryEntry& entry, const Geometry& geometry) {
  const uint32_t low = entry.DIR_FstClusLO.value();
  return geometry.type == Type::fat32 ? low | uint32_t{entry.DIR_FstClusHI.value()} << 16 : low;
}

bool is_dot(const DirectoryEntry& entry) {
  return std::memcmp(entry.DIR_Name, ".          ", 11) == 0;
}

bool is_dot_dot(const DirectoryEntry& entry) {
  return std::memcmp(entry.DIR_Name, "..         ", 11) == 0;
}

std::string_view name_of(Type type) {
  switch (type) {
    case Type::fat12:
      return "fat12";
    case Type::fat16:
      return "fat16";
    case Type::fat32:
      break;
  }
  return "fat32";
}

}  // namespace undershelf::fat
