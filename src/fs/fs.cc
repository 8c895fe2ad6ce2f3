#include "fs/fs.h"

#include <algorithm>
#include <array>
#include <cctype>

#include "fs/assembly/scene.h"
#include "fs/before.h"
#include "fs/exfat/reader.h"
#include "fs/fat/reader.h"
#include "fs/hfsplus/reader.h"
#include "fs/ntfs/reader.h"
#include "fs/systems.h"

namespace undershelf {

namespace {

template <auto find_geometry, auto make_reader>
std::unique_ptr<VolumeReader> open(const VolumePlace& place) {
  const auto window =
      std::make_shared<Window>(place.source, place.where.offset, place.where.length);
  const auto geometry = find_geometry(window, place.options.headless);
  if (!geometry) return nullptr;
  return make_reader(place, *geometry, {});
}

template <typename System, auto find_geometry, auto make_reader>
constexpr FileSystem file_system(std::string_view name, const Traits& traits,
                                 uint64_t (*bytes_before)(const SourcePtr&) = nullptr) {
  return {name,
          traits,
          open<find_geometry, make_reader>,
          bytes_before,
          [] { return make_detector(System{}); },
          [](const Scene& scene) { return assemble(System{}, scene); }};
}

}  // namespace

std::span<const FileSystem> file_systems() {
  static constexpr std::array kFileSystems = {
      file_system<Fat, fat::find_geometry, fat::make_reader>("fat",
                                                             {"fat", "FAT", "vfat", true, false}),
      file_system<Exfat, exfat::find_geometry, exfat::make_reader>(
          "exfat", {"exfat", "exFAT", "exfat", true, false}),
      file_system<Ntfs, ntfs::find_geometry, ntfs::make_reader>(
          "ntfs", {"ntfs", "NTFS", "ntfs", false, false, false, 0xFFFFFFFFFFFF},
          ntfs::bytes_before),
      file_system<Hfsplus, hfsplus::find_geometry, hfsplus::make_reader>(
          "hfsplus", {"hfs", "HFS+", "hfsplus", false, true, true}, hfsplus::bytes_before)};
  return kFileSystems;
}

const Traits& traits_of(std::string_view file_system) {
  static constexpr Traits kNone;
  for (const FileSystem& system : file_systems()) {
    if (file_system.starts_with(system.traits.family)) return system.traits;
  }
  return kNone;
}

std::string spelled(std::string_view file_system) {
  for (const FileSystem& system : file_systems()) {
    if (file_system == system.name) return std::string(system.traits.spelling);
  }
  std::string upper(file_system);
  std::ranges::transform(upper, upper.begin(),
                         [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
  return upper;
}

std::unique_ptr<VolumeReader> open_volume(const VolumePlace& place) {
  std::unique_ptr<VolumeReader> best;
  for (const FileSystem& file_system : file_systems()) {
    auto reader = file_system.open(place);
    if (!reader) continue;
    // Equally believable: HFS+ leaves the boot sector before it alone, all others clear what lies
    // behind theirs.
    if (!best || reader->volume().confidence >= best->volume().confidence) best = std::move(reader);
    if (place.options.headless) break;  // looking further means searching the whole volume again
  }
  if (best || !place.options.headless) return best;
  const auto window =
      std::make_shared<Window>(place.source, place.where.offset, place.where.length);
  for (const FileSystem& file_system : file_systems()) {
    if (file_system.bytes_before == nullptr) continue;
    const uint64_t bytes = file_system.bytes_before(window);
    if (bytes > 0 && (best = open_from_before(file_system, place, bytes))) break;
  }
  return best;
}

uint64_t VolumeReader::used_bytes() {
  uint64_t used = 0;
  const ByteRange heap = volume().heap();
  for (uint64_t at = heap.offset; at < heap.end();) {
    const ByteRange found = next_used({at, heap.end() - at});
    if (found.length == 0) break;
    used += found.length;
    at = found.end();
  }
  return used;
}

std::vector<uint64_t> free_places(VolumeReader& reader, size_t most) {
  const Volume& volume = reader.volume();
  std::vector<uint64_t> places;
  uint64_t next = 0;  // clusters
  for (size_t i = 0; i < most; ++i) {
    uint64_t cluster = std::max(next, volume.cluster_count * i / most);
    // Of what is in use there, no more is looked at than lies before the next place.
    const uint64_t step = std::max<uint64_t>(1, volume.cluster_count / most);
    const ByteRange from = volume.heap_from(cluster);
    const ByteRange near{from.offset, std::min(from.length, step * volume.cluster_size)};
    if (reader.next_used({near.offset, 1}).length > 0) {
      const ByteRange used = reader.next_used(near);
      if (used.length >= near.length) continue;
      cluster += used.length / volume.cluster_size;
    }
    if (cluster >= volume.cluster_count) break;
    next = cluster + 1;
    places.push_back(volume.heap_from(cluster).offset);
  }
  return places;
}

bool is_free(VolumeReader& reader, uint64_t place) {
  const Volume& volume = reader.volume();
  const ByteRange cluster = overlap({place, volume.cluster_size}, volume.heap());
  return cluster.length > 0 && reader.next_used({place, 1}).length == 0;
}

}  // namespace undershelf
