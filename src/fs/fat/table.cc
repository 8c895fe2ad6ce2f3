#include "fs/fat/table.h"

#include <algorithm>
#include <array>

#include "fs/fat/mended_table.h"

namespace undershelf::fat {
Table::Table(SourcePtr volume, const Geometry& geometry)
    : geometry_(geometry),
      volume_(volume),
      cache_(volume),
      mended_(std::make_shared<MendedTable>(std::move(volume), geometry)) {
  const unsigned bits = bits_of(geometry.type);
  const uint32_t ones = bits == 32 ? 0x0FFFFFFF : (1U << bits) - 1;
  end_mark_ = ones - 7;
  bad_mark_ = ones - 8;
}

Table::Entry Table::read(uint32_t cluster, unsigned copy) {
  return read_from(cache_, geometry_.fat_offset + copy * geometry_.fat_size, cluster);
}

Table::Entry Table::read(uint32_t cluster) { return read_from(mended_, 0, cluster); }

// `begin`: where the FAT begins in what `cache` reads.
Table::Entry Table::read_from(CachedReader& cache, uint64_t begin, uint32_t cluster) const {
  const unsigned bits = bits_of(geometry_.type);
  const uint64_t at = uint64_t{cluster} * bits / 8;
  const size_t length = bits == 32 ? 4 : 2;
  if (at + length > geometry_.fat_size) return {};
  std::array<std::byte, 4> bytes{};
  const bool ok = cache.read(begin + at, std::span(bytes).first(length));
  return {entry_at(bytes.data(), geometry_.type, cluster), ok};
}

Table::Use Table::use(uint32_t cluster) {
  const Entry found = read(cluster);
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
  return follow_chain(first, most, geometry_.cluster_count,
                      [&](uint32_t cluster) { return link_of(read(cluster, copy)); });
}

Chain Table::chain(uint32_t first, uint64_t most) {
  return follow_chain(first, most, geometry_.cluster_count,
                      [&](uint32_t cluster) { return link_of(read(cluster)); });
}

Chain Table::chain_of_any(uint32_t first, uint64_t most) {
  return follow_chain(first, most, geometry_.cluster_count, [&](uint32_t cluster) {
    const auto leads = [&](const Link& link) {
      return link.kind == Link::Kind::end ||
             (link.kind == Link::Kind::next && geometry_.is_cluster(link.next));
    };
    Link link = link_of(read(cluster));
    for (unsigned copy = 0; copy < geometry_.fat_count && !leads(link); ++copy) {
      if (const Link other = link_of(read(cluster, copy)); leads(other)) link = other;
    }
    return link;
  });
}

Link Table::link_of(const Entry& entry) const {
  using Kind = Link::Kind;
  if (!entry.readable) return {Kind::unreadable, 0};
  if (entry.value == 0) return {Kind::free, 0};
  if (entry.value == bad_mark_) return {Kind::bad, 0};
  return {entry.value >= end_mark_ ? Kind::end : Kind::next, entry.value};
}

}  // namespace undershelf::fat
