#include "fs/fat/mended_table.h"

#include <algorithm>
#include <boost/endian/conversion.hpp>
#include <vector>

#include "model/blank.h"

namespace undershelf::fat {
namespace {

constexpr uint64_t kSector = 512;
constexpr uint64_t kMostOfFat12 = 6144;  // bytes: 4,096 entries

}  // namespace

uint32_t entry_at(const std::byte* bytes, Type type, uint64_t cluster) {
  const auto* at = reinterpret_cast<const unsigned char*>(bytes);
  switch (type) {
    case Type::fat32:
      return boost::endian::load_little_u32(at) & 0x0FFFFFFF;
    case Type::fat16:
      return boost::endian::load_little_u16(at);
    case Type::fat12:
      break;
  }
  const uint32_t value = boost::endian::load_little_u16(at);
  return cluster % 2 != 0 ? value >> 4 : value & 0x0FFF;
}

MendedTable::MendedTable(SourcePtr volume, const Geometry& geometry)
    : volume_(std::move(volume)),
      geometry_(geometry),
      part_(geometry.type == Type::fat12 ? kMostOfFat12 : kSector) {}

// How many entries of a part cannot be ones; one, if it is filled with one mark.
size_t MendedTable::faults(uint64_t offset, std::span<const std::byte> part) const {
  const unsigned bits = bits_of(geometry_.type);
  const uint32_t ones = bits == 32 ? 0x0FFFFFFF : (1U << bits) - 1;
  const uint64_t first = offset * 8 / bits;
  const uint64_t count = part.size() * 8 / bits;
  size_t faults = 0;
  uint64_t marks = 0;
  uint64_t judged = 0;
  for (uint64_t i = 0; i < count; ++i) {
    const uint64_t cluster = first + i;
    if (cluster < chained::kFirstCluster || !geometry_.is_cluster(cluster)) continue;
    const size_t at = i * bits / 8;
    if (at + (bits == 32 ? 4 : 2) > part.size()) break;
    const uint32_t value = entry_at(&part[at], geometry_.type, cluster);
    ++judged;
    marks += value == ones;
    faults += value != 0 && value < ones - 8 && !geometry_.is_cluster(value);
  }
  constexpr uint64_t kFewFiles = 16;  // of one cluster each, one behind the other
  return judged > kFewFiles && marks == judged ? 1 : faults;
}

// Whether the part could be read from any copy.
bool MendedTable::mend(uint64_t offset, std::span<std::byte> part, bool is_readable) const {
  const unsigned main = geometry_.active_fat.value_or(0);
  // A FAT that is not kept up to date stands for nothing.
  if (geometry_.active_fat) return is_readable;
  size_t least = is_readable ? faults(offset, part) : SIZE_MAX;
  // Files of one cluster each may fill a part; one that is all free says nothing against that.
  const bool may_be = is_readable && is_one_value(part);
  std::vector<std::byte> other(part.size());
  for (unsigned copy = 0; copy < geometry_.fat_count && least > 0; ++copy) {
    if (copy == main) continue;
    const uint64_t at = geometry_.fat_offset + copy * geometry_.fat_size + offset;
    if (!volume_->read(at, other).ok()) continue;
    const size_t here = faults(offset, other);
    if (here >= least || (may_be && is_one_value(other))) continue;
    least = here;
    std::ranges::copy(other, part.begin());
  }
  return least != SIZE_MAX;
}

ReadResult MendedTable::read(uint64_t offset, std::span<std::byte> out) const {
  ReadResult result;
  std::ranges::fill(out, std::byte{0});
  const uint64_t end = std::min(offset + out.size(), size());
  const uint64_t begin = offset / part_ * part_;
  const uint64_t until = std::min((end + part_ - 1) / part_ * part_, size());
  if (offset < end) {
    std::vector<std::byte> bytes(until - begin);
    const uint64_t main =
        geometry_.fat_offset + geometry_.active_fat.value_or(0) * geometry_.fat_size;
    const ReadResult found = volume_->read(main + begin, bytes);
    for (uint64_t at = begin; at < until; at += part_) {
      const ByteRange range{at, std::min(part_, until - at)};
      const auto part = std::span(bytes).subspan(at - begin, range.length);
      const bool readable = std::ranges::none_of(found.bad, [&](const BadRange& bad) {
        return overlap({bad.offset - main, bad.length}, range).length > 0;
      });
      if (readable && faults(at, part) == 0) continue;
      if (!mend(at, part, readable)) add_bad(result, {overlap(range, {offset, end - offset})});
    }
    std::ranges::copy(std::span(bytes).subspan(offset - begin, end - offset), out.begin());
  }
  add_bad(result, {{end, offset + out.size() - end}});
  return result;
}

}  // namespace undershelf::fat
