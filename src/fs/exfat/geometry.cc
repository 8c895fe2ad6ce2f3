#include "fs/exfat/geometry.h"

#include <fmt/format.h>

#include <boost/endian/conversion.hpp>
#include <cstring>
#include <span>

namespace undershelf::exfat {

std::optional<Geometry> from_fields(const BootSector& boot) {
  const unsigned sector_shift = boot.BytesPerSectorShift;
  const unsigned cluster_shift = boot.SectorsPerClusterShift;
  if (sector_shift < 9 || sector_shift > 12 || cluster_shift > 25 - sector_shift ||
      boot.NumberOfFats == 0 || boot.NumberOfFats > 2) {
    return std::nullopt;
  }
  Geometry g;
  g.sector_size = 1U << sector_shift;
  g.cluster_size = 1U << (sector_shift + cluster_shift);
  const uint64_t sectors = boot.VolumeLength.value();
  const uint64_t fat = boot.FatOffset.value();
  const uint64_t heap = boot.ClusterHeapOffset.value();
  const uint64_t clusters = boot.ClusterCount.value();
  if (sectors == 0 || sectors > 1ULL << 52 || fat < 2 * kBootRegionSectors || fat >= heap ||
      heap >= sectors || clusters == 0 || clusters > 0xFFFFFFF5) {
    return std::nullopt;
  }
  g.volume_size = sectors << sector_shift;
  const unsigned flags = boot.VolumeFlags.value();
  g.second_bitmap = boot.NumberOfFats == 2 && (flags & kActiveFat) != 0;
  g.fat_size = uint64_t{boot.FatLength.value()} << sector_shift;
  g.fat_offset = (fat << sector_shift) + (g.second_bitmap ? g.fat_size : 0);
  g.heap_offset = heap << sector_shift;
  const uint64_t fitting = (g.volume_size - g.heap_offset) / g.cluster_size;
  if (fitting == 0 || clusters > fitting) return std::nullopt;
  g.cluster_count = static_cast<uint32_t>(clusters);
  g.root_cluster = boot.FirstClusterOfRootDirectory.value();
  const uint32_t serial = boot.VolumeSerialNumber.value();
  g.serial = fmt::format("{:04X}-{:04X}", serial >> 16, serial & 0xFFFF);
  if ((flags & kVolumeDirty) != 0) {
    g.notes.emplace_back("It was not unmounted cleanly: what was written last may be incomplete.");
  }
  if ((flags & kMediaFailure) != 0) {
    g.notes.emplace_back(
        "A driver met read or write errors on it: the medium may be failing. Work on a copy.");
  }
  return g;
}

namespace {

// Section 3.4: the sum of the first eleven sectors, repeated all over the twelfth.
bool checksum_holds(const Source& volume, uint64_t at, uint32_t sector_size) {
  std::vector<std::byte> region(size_t{kBootRegionSectors} * sector_size);
  if (!volume.read(at, region).ok()) return false;
  uint32_t sum = 0;
  const size_t covered = region.size() - sector_size;
  for (size_t i = 0; i < covered; ++i) {
    if (i == 106 || i == 107 || i == 112) continue;  // VolumeFlags and PercentInUse
    sum = (sum << 31 | sum >> 1) + std::to_integer<uint32_t>(region[i]);
  }
  return sum == boost::endian::load_little_u32(
                    reinterpret_cast<const unsigned char*>(region.data()) + covered);
}

std::optional<Geometry> from_boot_sector(const Source& volume, uint64_t at) {
  BootSector boot{};
  if (!read_at(volume, at, boot)) return std::nullopt;
  const bool name = std::memcmp(boot.FileSystemName, "EXFAT   ", 8) == 0;
  std::optional<Geometry> g = from_fields(boot);
  if (!g) return std::nullopt;
  const bool checksum = checksum_holds(volume, at, g->sector_size);
  const bool signature = boot.BootSignature[0] == 0x55 && boot.BootSignature[1] == 0xAA;
  if (!checksum && !(name && signature)) return std::nullopt;
  DirectoryEntry first{};
  const bool root = g->is_cluster(g->root_cluster) &&
                    read_at(volume, g->offset_of(g->root_cluster), first) &&
                    (first.EntryType == kVolumeLabel || first.EntryType == kBitmap ||
                     first.EntryType == (kVolumeLabel & ~kInUse));
  g->confidence = 10 + 20 * name + 10 * signature + 40 * checksum + 20 * root;
  if (!checksum) g->notes.emplace_back("The checksum of the boot region does not hold.");
  return g;
}

}  // namespace

std::optional<Geometry> find_geometry(const SourcePtr& source, bool headless) {
  const Source& volume = *source;
  constexpr int kSure = 80;
  std::optional<Geometry> g = from_boot_sector(volume, 0);
  if (!g && !headless) return std::nullopt;
  for (const uint32_t sector_size : {512U, 4096U}) {
    if (g && g->confidence >= kSure) break;
    auto backup = from_boot_sector(volume, uint64_t{kBootRegionSectors} * sector_size);
    if (!backup || backup->sector_size != sector_size) continue;
    if (g && backup->confidence <= g->confidence) continue;
    g = std::move(backup);
    g->confidence -= 10;
    g->notes.emplace_back("The boot region is lost or wrong; its backup was used.");
  }
  if (g && g->volume_size > volume.size()) {
    g->notes.push_back(fmt::format("The image ends {} bytes before the volume does.",
                                   g->volume_size - volume.size()));
  }
  return g;
}

}  // namespace undershelf::exfat
