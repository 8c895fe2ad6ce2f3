#include "fs/fs.h"

#include <array>

#include "fs/fat/reader.h"

namespace undershelf {

std::span<const FileSystem> file_systems() {
  static constexpr std::array kFileSystems = {FileSystem{"fat", fat::open}};
  return kFileSystems;
}

std::unique_ptr<VolumeReader> open_volume(const SourcePtr& source, const ByteRange& where,
                                          const ReadOptions& options) {
  for (const FileSystem& file_system : file_systems()) {
    if (auto reader = file_system.open(source, where, options)) return reader;
  }
  return nullptr;
}

}  // namespace undershelf
