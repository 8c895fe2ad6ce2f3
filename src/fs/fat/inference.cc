#include "fs/fat/inference.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <functional>
#include <span>

#include "fs/fat/table.h"

namespace undershelf::fat {
namespace {

// Reads the entries at a place; those that cannot be read are zero.
std::vector<DirectoryEntry> entries_at(const Source& volume, uint64_t offset, size_t count) {
  std::vector<DirectoryEntry> entries(count);
  volume.read(offset, std::as_writable_bytes(std::span(entries)));
  return entries;
}

// Whether the cluster that an entry of a folder names begins with `.` naming itself: two fields
// far apart that agree only if the geometry is right.
bool is_confirmed(const Source& volume, const Geometry& g, const DirectoryEntry& folder) {
  const uint32_t cluster = first_cluster(folder, g);
  if (!g.is_cluster(cluster)) return false;
  const auto inside = entries_at(volume, g.offset_of(cluster), 2);
  return is_dot(inside[0]) && is_dot_dot(inside[1]) && first_cluster(inside[0], g) == cluster;
}

// Calls `visit` with each entry in use in the root folder, as far as the first 64 KiB of it.
void each_in_root(const Source& volume, const Geometry& g,
                  const std::function<void(const DirectoryEntry&)>& visit) {
  const uint64_t offset = g.type != Type::fat32          ? g.root_offset
                          : g.is_cluster(g.root_cluster) ? g.offset_of(g.root_cluster)
                                                         : g.data_offset;
  const uint64_t length = g.type == Type::fat32 ? g.cluster_size : g.root_size;
  for (const DirectoryEntry& entry :
       entries_at(volume, offset, std::min<uint64_t>(length, 65536) / sizeof(DirectoryEntry))) {
    if (entry.DIR_Name[0] == 0) break;
    if (entry.DIR_Name[0] != kDeleted) visit(entry);
  }
}

// Where the FATs lie, by their first bytes: the media byte and set bits, twice the same sector.
struct FatPlaces {
  uint64_t first = 0;
  uint64_t size = 0;
};

std::vector<FatPlaces> find_fats(const Source& volume, uint32_t sector) {
  constexpr uint64_t kSearched = 16 << 20;  // bytes from the start; the second FAT begins in them
  constexpr size_t kMostStarts = 16;
  std::vector<std::pair<uint64_t, std::vector<std::byte>>> starts;
  std::vector<FatPlaces> places;
  std::vector<std::byte> block(1 << 20);
  for (uint64_t base = 0; base < std::min(kSearched, volume.size()); base += block.size()) {
    volume.read(base, block);
    for (uint64_t at = 0; at < block.size(); at += sector) {
      const auto byte = [&](uint64_t i) { return std::to_integer<unsigned>(block[at + i]); };
      if ((byte(0) < 0xF8 && byte(0) != 0xF0) || byte(1) != 0xFF || byte(2) != 0xFF) continue;
      const auto here = std::span(block).subspan(at, sector);
      for (const auto& [offset, bytes] : starts) {
        if (std::ranges::equal(bytes, here)) places.push_back({offset, base + at - offset});
      }
      if (starts.size() < kMostStarts) {
        starts.emplace_back(base + at, std::vector<std::byte>(here.begin(), here.end()));
      }
    }
  }
  return places;
}

// Every layout that fits two equal FATs at `fats`: root sizes and cluster sizes that drivers use.
void each_layout(const Source& volume, uint32_t sector, const FatPlaces& fats,
                 const std::function<void(const Geometry&)>& visit) {
  constexpr std::array<uint64_t, 9> kRootEntries = {0, 512, 112, 224, 240, 64, 128, 256, 1024};
  for (const uint64_t root_entries : kRootEntries) {
    for (uint32_t per_cluster = 1; per_cluster <= 128; per_cluster *= 2) {
      Geometry g;
      g.sector_size = sector;
      g.cluster_size = sector * per_cluster;
      g.volume_size = volume.size();
      g.fat_offset = fats.first;
      g.fat_size = fats.size;
      g.root_offset = fats.first + 2 * fats.size;
      g.root_size = root_entries * 32;
      g.data_offset = g.root_offset + (g.root_size + sector - 1) / sector * sector;
      if (g.data_offset + g.cluster_size > volume.size()) continue;
      uint64_t clusters = (volume.size() - g.data_offset) / g.cluster_size;
      g.type = root_entries == 0 ? Type::fat32 : clusters < 4085 ? Type::fat12 : Type::fat16;
      const uint64_t bits = root_entries == 0 ? 32 : g.type == Type::fat16 ? 16 : 12;
      clusters = std::min(clusters, g.fat_size * 8 / bits - 2);
      g.cluster_count = static_cast<uint32_t>(std::min<uint64_t>(clusters, 0x0FFFFFF5));
      g.root_cluster = root_entries == 0 ? 2 : 0;
      visit(g);
    }
  }
}

// Whether the root can end where the data area is taken to begin: behind the last entry nothing
// stands up to the lowest cluster at which a file of the root starts, and there something does.
bool root_fits(const Source& volume, const Geometry& g) {
  constexpr uint64_t kSearched = 1 << 20;  // bytes
  if (g.type == Type::fat32) return true;
  const auto root = entries_at(volume, g.root_offset, g.root_size / sizeof(DirectoryEntry));
  const auto end =
      std::ranges::find(root, u8{0}, [](const DirectoryEntry& e) { return e.DIR_Name[0]; });
  uint64_t lowest = UINT32_MAX;
  for (auto entry = root.begin(); entry != end; ++entry) {
    const bool is_long = (entry->DIR_Attr & kAttrLongNameMask) == kAttrLongName;
    const uint32_t first = first_cluster(*entry, g);
    if (!is_long && g.is_cluster(first)) lowest = std::min<uint64_t>(lowest, first);
  }
  if (!g.is_cluster(lowest)) return false;
  const uint64_t behind = g.root_offset + (end - root.begin()) * sizeof(DirectoryEntry);
  const uint64_t start = g.offset_of(static_cast<uint32_t>(lowest));
  if (start - behind > kSearched) return false;
  std::vector<std::byte> bytes(start + g.sector_size - behind);
  volume.read(behind, bytes);
  const auto content = std::ranges::find_if(bytes, [](std::byte b) { return b != std::byte{0}; });
  return content != bytes.end() && static_cast<uint64_t>(content - bytes.begin()) >= start - behind;
}

// Files in the root whose chain is just as long as their size asks, less those for which it is not.
// Only files of several clusters tell one cluster size from another.
int files_confirming(const SourcePtr& volume, const Geometry& g) {
  constexpr int kEnough = 64;
  if (!root_fits(*volume, g)) return 0;
  Table table(volume, g);
  int agreeing = 0;
  int others = 0;
  each_in_root(*volume, g, [&](const DirectoryEntry& entry) {
    const uint64_t wanted =
        (entry.DIR_FileSize.value() + uint64_t{g.cluster_size} - 1) / g.cluster_size;
    const bool file = (entry.DIR_Attr & (kAttrVolumeId | kAttrDirectory | kAttrReserved)) == 0;
    if (!file || wanted < 2 || agreeing >= kEnough) return;
    const Chain chain = table.chain(first_cluster(entry, g), wanted + 1, 0);
    ++(chain.end == Chain::End::marked && chain.clusters == wanted ? agreeing : others);
  });
  return agreeing - others;
}

}  // namespace

Confirmation confirm(const Source& volume, const Geometry& g) {
  Confirmation found;
  each_in_root(volume, g, [&](const DirectoryEntry& entry) {
    if ((entry.DIR_Attr & 0x3F) != kAttrDirectory) return;
    ++(is_confirmed(volume, g, entry) ? found.folders : found.strangers);
  });
  return found;
}

std::optional<Geometry> infer_geometry(const SourcePtr& source) {
  const Source& volume = *source;
  for (const uint32_t sector : {512U, 4096U}) {
    const std::vector<FatPlaces> places = find_fats(volume, sector);
    std::optional<Geometry> best;
    Confirmation most;
    int most_files = 0;
    const auto each = [&](const auto& visit) {
      for (const FatPlaces& fats : places) each_layout(volume, sector, fats, visit);
    };
    each([&](const Geometry& g) {
      if (const Confirmation found = confirm(volume, g); found > most) {
        most = found;
        best = g;
      }
    });
    if (!best) {
      each([&](const Geometry& g) {
        if (const int files = files_confirming(source, g); files > most_files) {
          most_files = files;
          best = g;
        }
      });
    }
    if (!best) continue;
    const int proofs = std::max(most.folders, most_files);
    best->confidence = std::min(70, 30 + 10 * proofs);
    best->notes.push_back(fmt::format(
        "The boot sector is lost or wrong. The layout was inferred from the FATs and {} {}{}.",
        proofs, most_files > 0 ? "file" : "folder", proofs == 1 ? "" : "s"));
    return best;
  }
  return std::nullopt;
}

}  // namespace undershelf::fat
