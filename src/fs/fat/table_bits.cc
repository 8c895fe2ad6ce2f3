#include "fs/fat/table_bits.h"

#include <algorithm>
#include <boost/endian/conversion.hpp>
#include <vector>

namespace undershelf::fat {

using chained::kFirstCluster;

TableBits::TableBits(SourcePtr volume, const Geometry& geometry, unsigned copy)
    : volume_(std::move(volume)),
      type_(geometry.type),
      begin_(geometry.fat_offset + copy * geometry.fat_size) {
  const uint64_t there = begin_ < volume_->size() ? volume_->size() - begin_ : 0;
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
    entries.assign(to - from + 1, std::byte{0});
    volume_->read(begin_ + from, std::span(entries).first(to - from));
    const auto* table = reinterpret_cast<const unsigned char*>(entries.data());
    for (uint64_t i = 0; i < count; ++i) {
      const uint64_t at = (first + i + kFirstCluster) * bits / 8 - from;
      uint32_t value = 0;
      if (bits == 32) {
        value = boost::endian::load_little_u32(table + at) & 0x0FFFFFFF;
      } else {
        value = boost::endian::load_little_u16(table + at);
        if (bits == 12) value = (first + i) % 2 != 0 ? value >> 4 : value & 0x0FFF;
      }
      if (value != 0) out[done + i / 8] |= std::byte{1} << (i % 8);
    }
    done += step;
  }
  return {};
}

}  // namespace undershelf::fat
