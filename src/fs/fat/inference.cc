#include "fs/fat/inference.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <functional>
#include <span>
#include <string>
#include <unordered_set>

#include "content/types.h"
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

// Where the FATs lie, by their first bytes: the media byte and set bits, twice the same sector.
struct FatPlaces {
  uint64_t first = 0;
  uint64_t size = 0;
};

bool is_uniform(std::span<const std::byte> bytes) {
  return std::ranges::all_of(bytes, [&](std::byte b) { return b == bytes.front(); });
}

// A FAT's first sector is taken for one if it begins with a media byte and set bits, and is not
// blank throughout, as erased flash is.
std::vector<FatPlaces> find_fats(const Source& volume, uint32_t sector) {
  constexpr uint64_t kSearched = 16 << 20;  // bytes from the start; the second FAT begins in them
  constexpr size_t kMostStarts = 16;
  constexpr size_t kMostPlaces = 64;
  std::vector<std::pair<uint64_t, std::vector<std::byte>>> starts;
  std::vector<FatPlaces> places;
  std::vector<std::byte> block(1 << 20);
  for (uint64_t base = 0; base < std::min(kSearched, volume.size()); base += block.size()) {
    volume.read(base, block);
    for (uint64_t at = 0; at < block.size() && places.size() < kMostPlaces; at += sector) {
      const auto byte = [&](uint64_t i) { return std::to_integer<unsigned>(block[at + i]); };
      if ((byte(0) < 0xF8 && byte(0) != 0xF0) || byte(1) != 0xFF || byte(2) != 0xFF) continue;
      const auto here = std::span(block).subspan(at, sector);
      if (is_uniform(here)) continue;
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
// Entry 1 of a FAT32 has clear upper bits, where that of a FAT16 has set ones.
void each_layout(const Source& volume, uint32_t sector, const FatPlaces& fats,
                 const std::function<void(const Geometry&)>& visit) {
  constexpr std::array<uint64_t, 10> kRootEntries = {0,  512, 112, 224,  240,
                                                     64, 128, 256, 1024, 2048};
  std::array<std::byte, 4> head{};
  volume.read(fats.first, head);
  const unsigned upper = std::to_integer<unsigned>(head[3]) >> 4;
  for (const uint64_t root_entries : kRootEntries) {
    if (root_entries == 0 && upper != 0) continue;
    for (uint32_t per_cluster = 1; per_cluster <= 128; per_cluster *= 2) {
      Geometry g;
      g.sector_size = sector;
      g.cluster_size = sector * per_cluster;
      g.volume_size = volume.size();
      g.fat_offset = fats.first;
      g.fat_size = fats.size;
      g.root_offset = fats.first + 2 * fats.size;
      g.root_size = root_entries * 32;
      g.heap_offset = g.root_offset + (g.root_size + sector - 1) / sector * sector;
      g.media = std::to_integer<u8>(head[0]);
      if (g.heap_offset + g.cluster_size > volume.size()) continue;
      uint64_t clusters = (volume.size() - g.heap_offset) / g.cluster_size;
      // The FAT is no larger than its clusters ask, to the next cluster or so: what it has room for
      // decides where the volume ends before the source does.
      const auto capacity = [&](uint64_t bits) { return g.fat_size * 8 / bits - 2; };
      if (root_entries == 0) {
        g.type = Type::fat32;
        clusters = std::min(clusters, capacity(32));
      } else {
        g.type = std::min(clusters, capacity(16)) < 4085 ? Type::fat12 : Type::fat16;
        if (g.type == Type::fat16 && upper == 0) continue;
        clusters = std::min(clusters, capacity(g.type == Type::fat16 ? 16 : 12));
        if (g.type == Type::fat12) clusters = std::min<uint64_t>(clusters, 4084);
      }
      g.cluster_count = static_cast<uint32_t>(std::min<uint64_t>(clusters, 0x0FFFFFF5));
      g.root_cluster = root_entries == 0 ? 2 : 0;
      visit(g);
    }
  }
}

// Whether the root can end where the clusters are taken to begin: behind the last entry nothing
// stands up to the lowest cluster at which something in the root starts, and there something does.
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
  const uint64_t behind =
      g.root_offset + static_cast<uint64_t>(end - root.begin()) * sizeof(DirectoryEntry);
  const uint64_t start = g.offset_of(static_cast<uint32_t>(lowest));
  if (start - behind > kSearched) return false;
  std::vector<std::byte> bytes(start + g.sector_size - behind);
  volume.read(behind, bytes);
  const auto content = std::ranges::find_if(bytes, [](std::byte b) { return b != std::byte{0}; });
  return content != bytes.end() && static_cast<uint64_t>(content - bytes.begin()) >= start - behind;
}

// Holds a layout against what lies in its folders, from the root down.
class Weigher {
 public:
  Weigher(const SourcePtr& volume, const Geometry& g)
      : volume_(*volume), geometry_(g), table_(volume, g) {}

  Merit run() {
    const Geometry& g = geometry_;
    merit_.fills = fills_table();
    merit_.root = root_fits(volume_, g);
    if (g.type == Type::fat32) {
      take_root_at(g.root_cluster);
    } else {
      take_folder({{g.root_offset, g.root_size}});
    }
    while (!folders_.empty() && looked_at_ < kMostEntries) {
      const uint32_t folder = folders_.back();
      folders_.pop_back();
      const uint64_t most = std::max<uint64_t>(1, kMostFolderBytes / g.cluster_size);
      const Chain chain = table_.chain(folder, most);
      std::vector<VolumeRange> where;
      for (const Run& run : chain.runs) {
        where.push_back({g.offset_of(run.first), uint64_t{run.count} * g.cluster_size});
      }
      if (where.empty()) where.push_back({g.offset_of(folder), g.cluster_size});
      take_folder(where);
    }
    return merit_;
  }

 private:
  static constexpr size_t kMostEntries = 1024;
  static constexpr uint64_t kMostRead = 64 << 10;  // bytes of a folder

  // Formatters make a FAT as large as its clusters ask, in whole sectors, give or take a cluster of
  // them; where the volume ends before the source, nothing can be said.
  bool fills_table() const {
    const Geometry& g = geometry_;
    const uint64_t clusters = (volume_.size() - g.heap_offset) / g.cluster_size;
    const uint64_t bits = g.type == Type::fat32 ? 32 : g.type == Type::fat16 ? 16 : 12;
    const uint64_t needed = ((clusters + 2) * bits + 7) / 8;
    const uint64_t slack = std::max<uint64_t>(g.sector_size * 2, needed / 16) + g.cluster_size;
    return needed <= g.fat_size + g.sector_size && g.fat_size <= needed + slack;
  }

  // Only folders in others begin with entries for themselves.
  void take_root_at(uint32_t cluster) {
    if (!geometry_.is_cluster(cluster)) return;
    const uint64_t place = geometry_.offset_of(cluster);
    if (is_dot(entries_at(volume_, place, 1).front())) {
      ++merit_.others;
    } else {
      take_folder({{place, geometry_.cluster_size}});
    }
  }

  void take_folder(const std::vector<VolumeRange>& where) {
    for (const VolumeRange& range : where) {
      for (const DirectoryEntry& entry : entries_at(
               volume_, range.offset, std::min(range.length, kMostRead) / sizeof(DirectoryEntry))) {
        if (entry.DIR_Name[0] == 0 || ++looked_at_ > kMostEntries) return;
        if (entry.DIR_Name[0] != kDeleted && !is_dot(entry) && !is_dot_dot(entry)) take(entry);
      }
    }
  }

  void take(const DirectoryEntry& entry) {
    const unsigned kind = entry.DIR_Attr & (kAttrVolumeId | kAttrDirectory | kAttrReserved);
    if (kind == kAttrDirectory) return take_subfolder(entry);
    if (kind == 0) take_file(entry);
  }

  void take_subfolder(const DirectoryEntry& entry) {
    const uint32_t cluster = first_cluster(entry, geometry_);
    if (!is_confirmed(volume_, geometry_, entry)) {
      ++merit_.others;
      return;
    }
    if (!seen_.insert(cluster).second) return;
    ++(cluster == 2 ? merit_.first : merit_.folders);
    folders_.push_back(cluster);
  }

  void take_file(const DirectoryEntry& entry) {
    const uint64_t size = entry.DIR_FileSize.value();
    const uint32_t first = first_cluster(entry, geometry_);
    if (size == 0) return;
    const uint64_t wanted = geometry_.clusters_of(size);
    if (!geometry_.is_cluster(first)) {
      ++merit_.others;
      return;
    }
    // Long chains say no more than short ones, and take long to follow.
    constexpr uint64_t kMostLinks = 1 << 16;
    if ((links_ += wanted) > kMostLinks) return;
    const auto fits = [&](const Chain& chain) {
      return chain.end == Chain::End::marked && chain.clusters == wanted;
    };
    const bool found = fits(table_.chain(first, wanted + 1)) ||
                       (geometry_.fat_count > 1 && fits(table_.chain(first, wanted + 1, 1)));
    ++(found ? merit_.files : merit_.others);
    std::array<std::byte, 64> head{};
    volume_.read(geometry_.offset_of(first), head);
    const Format& format = format_by_name(extension_of(entry));
    if (is_uniform(head) && size > head.size()) {
      --merit_.heads;
      return;
    }
    const HeadMatch match =
        match_head(format, std::span(head).first(std::min<uint64_t>(size, head.size())));
    merit_.heads += match == HeadMatch::fits ? 1 : match == HeadMatch::differs ? -1 : 0;
  }

  static std::string extension_of(const DirectoryEntry& entry) {
    std::string name = "x.";
    for (int i = 8; i < 11 && entry.DIR_Name[i] != ' '; ++i) {
      name += static_cast<char>(entry.DIR_Name[i]);
    }
    return name;
  }

  const Source& volume_;
  const Geometry& geometry_;
  Table table_;
  Merit merit_;
  std::vector<uint32_t> folders_;
  std::unordered_set<uint32_t> seen_;
  size_t looked_at_ = 0;
  uint64_t links_ = 0;  // of chains
};

}  // namespace

Merit weigh(const SourcePtr& volume, const Geometry& geometry) {
  return Weigher(volume, geometry).run();
}

std::optional<Geometry> infer_geometry(const SourcePtr& source) {
  const Source& volume = *source;
  for (const uint32_t sector : {512U, 4096U}) {
    std::optional<Geometry> best;
    Merit most;
    for (const FatPlaces& fats : find_fats(volume, sector)) {
      each_layout(volume, sector, fats, [&](const Geometry& g) {
        const Merit merit = weigh(source, g);
        // Of layouts as good as each other, that of the larger clusters: it promises less.
        if (!merit.is_proof() || merit.total() < std::max(1, most.total())) return;
        if (best && merit.total() == most.total() && g.cluster_size < best->cluster_size) return;
        most = merit;
        best = g;
      });
    }
    if (!best) continue;
    const int folders = most.folders + most.first;
    best->confidence = std::clamp(30 + 10 * (most.folders + most.files) - 10 * most.others, 10, 70);
    best->notes.push_back(
        fmt::format("The boot sector is lost or wrong. The layout was inferred from the FATs, {} "
                    "folder{} and {} file{}.",
                    folders, folders == 1 ? "" : "s", most.files, most.files == 1 ? "" : "s"));
    best->notes.push_back(kAssumedBeginning);
    return best;
  }
  return std::nullopt;
}

}  // namespace undershelf::fat
