#include "fs/fat/table.h"

#include <array>
#include <boost/endian/conversion.hpp>
#include <map>

namespace undershelf::fat {
namespace {

unsigned bits_of(Type type) { return type == Type::fat12 ? 12 : type == Type::fat16 ? 16 : 32; }

// The runs of a chain by first cluster, to notice when it comes back to itself.
class Visited {
 public:
  bool has(uint32_t cluster) const {
    auto next = by_first_.upper_bound(cluster);
    if (next == by_first_.begin()) return false;
    --next;
    return cluster < next->first + next->second;
  }
  void add(const Run& run) { by_first_[run.first] = run.count; }

 private:
  std::map<uint32_t, uint32_t> by_first_;
};

}  // namespace

std::string_view to_text(Chain::End end) {
  switch (end) {
    case Chain::End::marked:
      return "ends";
    case Chain::End::enough:
      return "goes on";
    case Chain::End::free_cluster:
      return "runs into a free cluster";
    case Chain::End::bad_cluster:
      return "runs into a bad cluster";
    case Chain::End::outside:
      return "leads outside the volume";
    case Chain::End::loop:
      return "comes back to itself";
    case Chain::End::unreadable:
      break;
  }
  return "leads to a part of the FAT that cannot be read";
}

Table::Table(SourcePtr volume, const Geometry& geometry)
    : geometry_(geometry), cache_(std::move(volume)) {
  const unsigned bits = bits_of(geometry.type);
  const uint32_t ones = bits == 32 ? 0x0FFFFFFF : (1U << bits) - 1;
  end_mark_ = ones - 7;
  bad_mark_ = ones - 8;
}

Table::Link Table::link(uint32_t cluster, unsigned copy) {
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
  const Link found = link(cluster, main_copy());
  if (!found.readable) return Use::unreadable;
  return found.value == 0 ? Use::free : found.value == bad_mark_ ? Use::bad : Use::used;
}

Table::Flags Table::flags() {
  const Link found = link(1, main_copy());
  // A driver that keeps no flags leaves an end mark; that has both set.
  if (geometry_.type == Type::fat12 || !found.readable || found.value == 0) return {};
  const unsigned top = bits_of(geometry_.type) == 32 ? 27 : 15;
  return {(found.value >> top & 1U) != 0, (found.value >> (top - 1) & 1U) != 0};
}

Chain Table::chain(uint32_t first, uint64_t most, unsigned copy) {
  Chain chain;
  Visited visited;
  uint32_t cluster = first;
  while (true) {
    if (!geometry_.is_cluster(cluster)) {
      chain.end = Chain::End::outside;
      break;
    }
    const Link next = link(cluster, copy);
    if (!next.readable || next.value == 0 || next.value == bad_mark_) {
      chain.end = !next.readable    ? Chain::End::unreadable
                  : next.value == 0 ? Chain::End::free_cluster
                                    : Chain::End::bad_cluster;
      break;
    }
    const bool follows =
        !chain.runs.empty() && chain.runs.back().first + chain.runs.back().count == cluster;
    if (!follows) {
      // Only a jump, or a run that grows into an older one, can come back.
      if (!chain.runs.empty()) visited.add(chain.runs.back());
      if (visited.has(cluster)) {
        chain.end = Chain::End::loop;
        break;
      }
      chain.runs.push_back({cluster, 0});
    } else if (visited.has(cluster)) {
      chain.end = Chain::End::loop;
      break;
    }
    if (chain.clusters == most) {
      if (chain.runs.back().count == 0) chain.runs.pop_back();
      chain.end = Chain::End::enough;
      break;
    }
    ++chain.runs.back().count;
    ++chain.clusters;
    if (next.value >= end_mark_) {
      chain.end = Chain::End::marked;
      break;
    }
    cluster = next.value;
  }
  return chain;
}

}  // namespace undershelf::fat
