#include "fs/ntfs/geometry.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <bit>
#include <cstring>

#include "fs/ntfs/record.h"
#include "fs/ntfs/runs.h"
#include "source/by_two.h"

namespace undershelf::ntfs {
namespace {

// Sizes given as clusters, or as minus the power of two.
uint64_t size_from(int8_t value, uint64_t cluster_size) {
  if (value > 0) return static_cast<uint64_t>(value) * cluster_size;
  return value >= -31 ? uint64_t{1} << -value : 0;
}

bool is_power_between(uint64_t value, uint64_t least, uint64_t most) {
  return std::has_single_bit(value) && value >= least && value <= most;
}

}  // namespace

std::optional<Geometry> from_fields(const BootSector& boot) {
  Geometry g;
  g.sector_size = boot.bytes_per_sector.value();
  const unsigned coded = boot.sectors_per_cluster;
  const uint64_t per_cluster = coded <= 0x80 ? coded : coded >= 0xE1 ? 1ULL << (256 - coded) : 0;
  const uint64_t cluster_size = per_cluster * g.sector_size;
  if (!is_power_between(g.sector_size, 256, 4096) ||
      !is_power_between(cluster_size, g.sector_size, 2 << 20)) {
    return std::nullopt;
  }
  g.cluster_size = static_cast<uint32_t>(cluster_size);
  const uint64_t record = size_from(boot.clusters_per_record, cluster_size);
  const uint64_t block = size_from(boot.clusters_per_index, cluster_size);
  const uint64_t sectors = boot.total_sectors.value();
  if (!is_power_between(record, 512, 65536) || !is_power_between(block, 512, 2 << 20) ||
      sectors == 0 || sectors > (1ULL << 62) / g.sector_size) {
    return std::nullopt;
  }
  g.record_size = static_cast<uint32_t>(record);
  g.block_size = static_cast<uint32_t>(block);
  g.volume_size = sectors * g.sector_size;
  const uint64_t clusters = g.cluster_count();
  if (boot.mft_lcn.value() >= clusters) return std::nullopt;
  g.mft_offset = boot.mft_lcn.value() * cluster_size;
  // The mirror may be said to lie anywhere; it is only needed where $MFT fails.
  g.mirror_offset = std::min(boot.mftmirr_lcn.value(), clusters) * cluster_size;
  g.serial = fmt::format("{:016X}", boot.serial.value());
  return g;
}

namespace {

// Whether a FILE record with the number 0 stands at a place.
bool is_mft_record(const Source& volume, uint64_t offset, uint32_t record_size) {
  std::vector<std::byte> bytes(record_size);
  if (!volume.read(offset, bytes).ok()) return false;
  const std::optional<Record> record = parse_record(bytes);
  return record && record->header.bytes_allocated.value() == record_size &&
         record->own_number().value_or(0) == 0 && record->in_use();
}

std::optional<Geometry> from_boot_sector(const Source& volume, uint64_t at) {
  BootSector boot{};
  if (at > volume.size() || !read_at(volume, at, boot)) {
    return std::nullopt;
  }
  std::optional<Geometry> g = from_fields(boot);
  if (!g) return std::nullopt;
  const bool name = std::memcmp(boot.oem_id, "NTFS    ", 8) == 0;
  const bool signature = boot.signature[0] == 0x55 && boot.signature[1] == 0xAA;
  const bool mft = is_mft_record(volume, g->mft_offset, g->record_size);
  const bool mirror = is_mft_record(volume, g->mirror_offset, g->record_size);
  // Fields that happen to agree in other data have neither.
  if (int{name} + 2 * int{mft} + int{mirror} < (signature ? 1 : 2)) return std::nullopt;
  if (!name && !mft && !mirror) return std::nullopt;
  g->confidence = 20 + 15 * name + 5 * signature + 40 * mft + 20 * mirror;
  if (!mft) g->notes.emplace_back("$MFT does not begin where the boot sector says.");
  if (!mirror) g->notes.emplace_back("$MFTMirr, the copy of the first records, is lost.");
  return g;
}

// Whether a boot sector stands there that differs in the size of the volume at most.
bool is_backup_of(const Source& volume, const Geometry& g, uint64_t at) {
  const std::optional<Geometry> backup = from_boot_sector(volume, at);
  return backup && backup->serial == g.serial && backup->cluster_size == g.cluster_size &&
         backup->mft_offset == g.mft_offset && backup->volume_size == at;
}

// The volume to which a record of $MFT itself at `offset` belongs: its first run tells in clusters
// where the record lies in bytes.
std::optional<Geometry> from_mft_record(const Source& volume, uint64_t offset) {
  for (const uint32_t record_size : {1024U, 4096U}) {
    std::vector<std::byte> bytes(record_size);
    if (!volume.read(offset, bytes).ok()) continue;
    const std::optional<Record> record = parse_record(bytes);
    if (!record || record->header.bytes_allocated.value() != record_size || record->torn ||
        record->own_number() != 0U) {
      continue;
    }
    std::optional<Geometry> found;
    each_attribute(*record, [&](const Attribute& attribute) {
      const auto part = attribute.non_resident();
      if (attribute.type() != kData || !attribute.name.empty() || !part) return;
      // Decoded in units of one byte, the first run is its cluster number.
      const Runs runs = decode_runs(attribute, *part, {0, 1, 1ULL << 62});
      if (runs.pieces.empty() || runs.pieces[0].kind != Piece::Kind::range) return;
      const uint64_t lcn = runs.pieces[0].offset;
      if (lcn == 0) return;
      const uint64_t clusters = part->highest_vcn.value() + 1;
      for (uint64_t size = 512; size <= 2 << 20; size *= 2) {
        if (part->allocated_size.value() != clusters * size) continue;
        const uint64_t mft = lcn * size;
        if (mft != offset && !is_mft_record(volume, mft, record_size)) continue;
        Geometry g;
        g.cluster_size = static_cast<uint32_t>(size);
        g.sector_size = std::min(g.cluster_size, volume.sector_size());
        g.record_size = record_size;
        g.volume_size = volume.size() / size * size;
        g.mft_offset = mft;
        g.mirror_offset = offset;
        g.confidence = 50;
        g.notes.emplace_back(
            "Both boot sectors are lost. The layout was inferred from the records of $MFT.");
        found = g;
        return;
      }
    });
    if (found) return found;
  }
  return std::nullopt;
}

// Where records that say they are the first begin, by place: bytes of the volume.
std::vector<uint64_t> first_records(const Source& volume, const ByteRange& within) {
  constexpr uint64_t kBlock = 128 << 10;  // bytes read at once
  constexpr size_t kStep = 512;
  std::vector<ByteRange> blocks;
  for (uint64_t at = within.offset; at < within.end(); at += kBlock) {
    blocks.push_back({at, std::min(kBlock, within.end() - at)});
  }
  std::vector<std::vector<uint64_t>> found(blocks.size());
  look_by_two(volume, blocks, [&](size_t number, std::span<const std::byte> bytes, bool) {
    for (size_t at = 0; at + sizeof(RecordHeader) <= bytes.size(); at += kStep) {
      if (std::memcmp(bytes.data() + at, "FILE", 4) != 0) continue;
      const auto header = load<RecordHeader>(bytes, at);
      if (header->usa_offset.value() == sizeof(RecordHeader) &&
          header->record_number.value() == 0) {
        found[number].push_back(blocks[number].offset + at);
      }
    }
  });
  std::vector<uint64_t> all;
  for (const auto& some : found) all.insert(all.end(), some.begin(), some.end());
  return all;
}

// Looks for $MFT where formatters put it and its mirror: near the start, 3 GiB in, in the middle.
std::optional<Geometry> infer_geometry(const Source& volume) {
  constexpr uint64_t kSearched = 64 << 20;  // bytes, at each place
  constexpr uint64_t kAtOnce = 8 << 20;     // bytes looked through before records are looked at
  for (const uint64_t middle : {uint64_t{0}, uint64_t{3} << 30, volume.size() / 2}) {
    const uint64_t start = middle - std::min(middle, kSearched / 2);
    const uint64_t end = std::min(volume.size(), start + kSearched);
    for (uint64_t at = start / kAtOnce * kAtOnce; at < end; at += kAtOnce) {
      for (const uint64_t record : first_records(volume, {at, std::min(kAtOnce, end - at)})) {
        if (auto g = from_mft_record(volume, record)) return g;
      }
    }
  }
  return std::nullopt;
}

// How much less than its own place the first record of $MFT at `place` says, if the copy that the
// record behind it tells of lies as much away; 0 if not.
uint64_t shift_of_mft(const Source& window, uint64_t place) {
  for (const uint32_t record_size : {1024U, 4096U}) {
    std::optional<uint64_t> first_runs[2];  // of $MFT and $MFTMirr: cluster numbers
    uint64_t cluster_size = 0;
    for (const unsigned number : {0U, 1U}) {
      std::vector<std::byte> bytes(record_size);
      if (!window.read(place + number * record_size, bytes).ok()) break;
      const std::optional<Record> record = parse_record(bytes);
      if (!record || record->torn || record->own_number().value_or(number) != number ||
          record->header.bytes_allocated.value() != record_size) {
        break;
      }
      each_attribute(*record, [&](const Attribute& attribute) {
        const auto part = attribute.non_resident();
        if (attribute.type() != kData || !attribute.name.empty() || !part) return;
        const Runs runs = decode_runs(attribute, *part, {0, 1, 1ULL << 62});
        if (runs.pieces.empty() || runs.pieces[0].kind != Piece::Kind::range) return;
        first_runs[number] = runs.pieces[0].offset;
        const uint64_t clusters = part->highest_vcn.value() + 1;
        if (number == 0 && clusters > 0) cluster_size = part->allocated_size.value() / clusters;
      });
    }
    if (!first_runs[0] || !first_runs[1] || !is_power_between(cluster_size, 512, 2 << 20)) continue;
    constexpr uint64_t kMostClusters = uint64_t{1} << 40;
    if (*first_runs[0] > kMostClusters || *first_runs[1] > kMostClusters) continue;
    const uint64_t said = *first_runs[0] * cluster_size;
    const uint64_t mirror = *first_runs[1] * cluster_size;
    if (said <= place || mirror < said - place) continue;
    if (is_mft_record(window, mirror - (said - place), record_size)) return said - place;
  }
  return 0;
}

}  // namespace

uint64_t bytes_before(const SourcePtr& window) {
  for (const uint64_t sector : {512U, 4096U}) {
    for (uint64_t back = 1; back <= 17 && back * sector <= window->size(); ++back) {
      const uint64_t at = window->size() / sector * sector - back * sector;
      BootSector boot{};
      if (!read_at(*window, at, boot) || std::memcmp(boot.oem_id, "NTFS    ", 8) != 0) continue;
      const std::optional<Geometry> g = from_fields(boot);
      if (!g || g->volume_size <= at) continue;
      const uint64_t before = g->volume_size - at;
      for (const uint64_t table : {g->mft_offset, g->mirror_offset}) {
        if (table >= before && is_mft_record(*window, table - before, g->record_size))
          return before;
      }
    }
  }
  constexpr uint64_t kSearched = 64 << 20;
  for (const uint64_t middle : {uint64_t{0}, uint64_t{3} << 30, window->size() / 2}) {
    const uint64_t start = (middle - std::min(middle, kSearched / 2)) / 512 * 512;
    const uint64_t end = std::min(window->size(), start + kSearched);
    if (start >= end) continue;
    for (const uint64_t place : first_records(*window, {start, end - start})) {
      if (const uint64_t shift = shift_of_mft(*window, place); shift > 0) return shift;
    }
  }
  return 0;
}

std::optional<Geometry> find_geometry(const SourcePtr& source, bool headless) {
  const Source& volume = *source;
  std::optional<Geometry> g = from_boot_sector(volume, 0);
  constexpr int kSure = 60;
  if (g && g->confidence < kSure) {
    // Something is wrong with it, or with $MFT; the backup decides.
    const auto backup = from_boot_sector(volume, g->volume_size);
    if (backup && backup->confidence > g->confidence) {
      g = backup;
      g->notes.emplace_back("The boot sector is damaged; its backup was used.");
    }
  }
  // A size that leads to no backup is one bit away from that of the backup that is there.
  const bool wrong_end = g && g->confidence >= kSure && g->volume_size < volume.size() &&
                         !is_backup_of(volume, *g, g->volume_size);
  if (!g || g->confidence < kSure || wrong_end) {
    for (const uint64_t sector : {512U, 4096U}) {
      if (volume.size() < 2 * sector || (!headless && !g)) continue;
      // Behind the volume, which may be followed by the rest of a partition.
      const uint64_t last = volume.size() / sector * sector - sector;
      for (uint64_t back = 0; back <= 16; ++back) {
        if (back * sector > last) break;
        const uint64_t at = last - back * sector;
        auto backup = from_boot_sector(volume, at);
        if (!backup || backup->volume_size != at) continue;
        if (wrong_end ? !is_backup_of(volume, *g, at) : g && backup->confidence <= g->confidence) {
          continue;
        }
        g = backup;
        g->confidence -= 10;
        g->notes.emplace_back("The boot sector is lost or wrong; its backup was used.");
        break;
      }
    }
  }
  if (!g && headless) g = infer_geometry(volume);
  if (g && g->volume_size > volume.size()) {
    g->notes.push_back(fmt::format("The image ends {} bytes before the volume does.",
                                   g->volume_size - volume.size()));
  }
  return g;
}

}  // namespace undershelf::ntfs
