#include "fs/fs.h"

#include <algorithm>
#include <array>

#include "fs/exfat/reader.h"
#include "fs/fat/reader.h"
#include "fs/hfsplus/reader.h"
#include "fs/ntfs/reader.h"

namespace undershelf {

std::span<const FileSystem> file_systems() {
  static constexpr std::array kFileSystems = {
      FileSystem{"fat", fat::open}, FileSystem{"exfat", exfat::open},
      FileSystem{"ntfs", ntfs::open}, FileSystem{"hfsplus", hfsplus::open}};
  return kFileSystems;
}

std::unique_ptr<VolumeReader> open_volume(const SourcePtr& source, const ByteRange& where,
                                          const ReadOptions& options) {
  for (const FileSystem& file_system : file_systems()) {
    if (auto reader = file_system.open(source, where, options)) return reader;
  }
  return nullptr;
}

uint64_t used_bytes(VolumeReader& reader) {
  uint64_t used = 0;
  const ByteRange heap = reader.volume().heap();
  for (uint64_t at = heap.offset; at < heap.end();) {
    const ByteRange found = reader.next_used({at, heap.end() - at});
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
    const ByteRange from = volume.heap_from(cluster);
    const ByteRange used = reader.next_used(from);
    if (used.length > 0 && used.offset == from.offset) {
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
