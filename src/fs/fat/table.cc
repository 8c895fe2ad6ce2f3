#include "fs/fat/table.h"

#include <algorithm>
#include <array>
#include <boost/endian/conversion.hpp>

namespace undershelf::fat {
Table::Table(SourcePtr volume, const Geometry& geometry)
    : geometry_(geometry), volume_(volume), cache_(std::move(volume)) {
  const unsigned bits = bits_of(geometry.type);
  const uint32_t ones = bits == 32 ? 0x0FFFFFFF : (1U << bits) - 1;
  end_mark_ = ones - 7;
  bad_mark_ = ones - 8;
}

Table::Entry Table::read(uint32_t cluster, unsigned copy) {
  const unsigned bits = bits_of(geometry_.type);
  const uint64_t at = uint64_t{cluster} * bits / 8;
  const size_t length = bits == 32 ? 4 : 2;
  if (at + length > geometry_.fat_size) return {};
  std::array<std::byte, 4> bytes{};
  const bool ok = cache_.read(geometry_.fat_offset + copy * geometry_.fat_size + at,
                              std::span(bytes).first(length));
  uint32_t value = boost::endian::load_little_u32(reinterpret_cast<unsigned char*>(bytes.data()));
  if (bits == 12) value = cluster % 2 != 0 ? value >> 4 : value & 0x0FFF;
  if (bits == 32) value &= 0x0FFFFFFF;
  return {value, ok};
}

Table::Use Table::use(uint32_t cluster) {
  const Entry found = read(cluster, main_copy());
  if (!found.readable) return Use::unreadable;
  return found.value == 0 ? Use::free : found.value == bad_mark_ ? Use::bad : Use::used;
}

Table::Flags Table::flags() {
  const Entry found = read(1, main_copy());
  // A driver that keeps no flags leaves an end mark; that has both set.
  if (geometry_.type == Type::fat12 || !found.readable || found.value == 0) return {};
  const unsigned top = bits_of(geometry_.type) == 32 ? 27 : 15;
  return {(found.value >> top & 1U) != 0, (found.value >> (top - 1) & 1U) != 0};
}

Chain Table::chain(uint32_t first, uint64_t most, unsigned copy) {
  return follow_chain(first, most, geometry_.cluster_count, [&](uint32_t cluster) -> Link {
    using Kind = Link::Kind;
    const Entry entry = read(cluster, copy);
    if (!entry.readable) return {Kind::unreadable, 0};
    if (entry.value == 0) return {Kind::free, 0};
    if (entry.value == bad_mark_) return {Kind::bad, 0};
    return {entry.value >= end_mark_ ? Kind::end : Kind::next, entry.value};
  });
}

}  // namespace undershelf::fat
