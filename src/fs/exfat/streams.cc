#include "fs/exfat/streams.h"

#include <algorithm>
#include <array>
#include <boost/endian/conversion.hpp>

namespace undershelf::exfat {

Chain StreamMaker::chain(uint32_t first, uint64_t most) {
  return follow_chain(first, most, geometry_.cluster_count, [&](uint32_t cluster) -> Link {
    if (uint64_t{cluster} * 4 + 4 > geometry_.fat_size) return {};
    std::array<std::byte, 4> bytes{};
    if (!table_.read(geometry_.fat_offset + uint64_t{cluster} * 4, bytes)) return {};
    const uint32_t value =
        boost::endian::load_little_u32(reinterpret_cast<unsigned char*>(bytes.data()));
    if (value == 0) return {Link::Kind::free, 0};
    if (value == kBadCluster) return {Link::Kind::bad, 0};
    return {value == kEndOfChain ? Link::Kind::end : Link::Kind::next, value};
  });
}

bool StreamMaker::is_free(const Chain& left) const {
  return std::ranges::none_of(geometry_.ranges_of(left.runs), is_used_);
}

Stream StreamMaker::of_file(const EntrySet& set, Entry& entry) {
  Stream stream;
  stream.size = set.stream.DataLength.value();
  stream.valid_size = std::min(set.stream.ValidDataLength.value(), stream.size);
  const uint32_t first = set.stream.FirstCluster.value();
  if (stream.size == 0 && (first == 0 || entry.state == State::live)) {
    stream.placement = Placement::exact;
    return stream;
  }
  if (!heap_.check(stream, entry, first)) return stream;
  const uint64_t wanted = geometry_.clusters_of(stream.size);
  if (set.contiguous()) {
    // The flag NoFatChain says that the clusters follow each other.
    flag_is_used_ = flag_is_used_ || wanted > 1;
    const auto where = geometry_.ranges_of({{first, static_cast<uint32_t>(wanted)}});
    stream.placement = Placement::exact;
    heap_.add_pieces(stream, where);
    heap_.note_short(stream, entry, where.empty() ? 0 : where[0].length);
  } else if (entry.state == State::live) {
    heap_.place(stream, entry, chain(first, wanted + 1), wanted);
  } else {
    stream.open = true;
    const Chain left = chain(first, wanted);
    const bool whole = left.clusters == wanted &&
                       (left.end == Chain::End::marked || left.end == Chain::End::enough);
    if (whole && is_free(left)) heap_.add_pieces(stream, geometry_.ranges_of(left.runs));
  }
  return stream;
}

}  // namespace undershelf::exfat
