#include "fs/fat/table_bits.h"

#include <algorithm>
#include <vector>

namespace undershelf::fat {

using chained::kFirstCluster;

TableBits::TableBits(const SourcePtr& volume, const Geometry& geometry)
    : table_(volume, geometry), type_(geometry.type) {
  const uint64_t begin = geometry.fat_offset;
  const uint64_t there = begin < volume->size() ? volume->size() - begin : 0;
  const uint64_t entries = std::min(geometry.fat_size, there) * 8 / bits_of(type_);
  clusters_ = std::min<uint64_t>(geometry.cluster_count,
                                 entries > kFirstCluster ? entries - kFirstCluster : 0);
}

uint64_t TableBits::size() const { return (clusters_ + 7) / 8; }

ReadResult TableBits::read(uint64_t offset, std::span<std::byte> out) const {
  std::ranges::fill(out, std::byte{0});
  const unsigned bits = bits_of(type_);
  constexpr uint64_t kAtOnce = 8192;  // bytes of the bitmap
  std::vector<std::byte> entries;
  for (uint64_t done = 0; done < out.size() && offset + done < size();) {
    const uint64_t step = std::min({kAtOnce, out.size() - done, size() - offset - done});
    const uint64_t first = (offset + done) * 8;  // bit
    const uint64_t count = std::min(step * 8, clusters_ - first);
    const uint64_t from = (first + kFirstCluster) * bits / 8;
    const uint64_t to = ((first + count + kFirstCluster) * bits + 7) / 8;
    entries.assign(to - from + 4, std::byte{0});
    table_.read(from, std::span(entries).first(to - from));
    for (uint64_t i = 0; i < count; ++i) {
      const uint64_t at = (first + i + kFirstCluster) * bits / 8 - from;
      if (entry_at(&entries[at], type_, first + i) != 0)
        out[done + i / 8] |= std::byte{1} << (i % 8);
    }
    done += step;
  }
  return {};
}

}  // namespace undershelf::fat
