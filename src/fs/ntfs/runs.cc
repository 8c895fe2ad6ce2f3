#include "fs/ntfs/runs.h"

#include <algorithm>

namespace undershelf::ntfs {
namespace {

// A little-endian number of `size` bytes; sign-extended.
int64_t number_at(std::span<const std::byte> bytes, size_t offset, size_t size) {
  uint64_t value = 0;
  for (size_t i = 0; i < size; ++i) {
    value |= std::to_integer<uint64_t>(bytes[offset + i]) << (8 * i);
  }
  if (size < 8 && size > 0 && (value >> (8 * size - 1) & 1U) != 0) value |= ~0ULL << (8 * size);
  return static_cast<int64_t>(value);
}

}  // namespace

Runs decode_runs(const Attribute& attribute, const NonResidentPart& part, const UnitSpace& space) {
  Runs runs;
  const uint64_t lowest = part.lowest_vcn.value();
  const uint64_t highest = part.highest_vcn.value();
  // An attribute without clusters has a highest VCN of -1.
  const uint64_t wanted = highest + 1 > lowest ? highest + 1 - lowest : 0;
  if (wanted > UINT64_MAX / 4 / space.unit_size) {
    runs.sound = false;
    return runs;
  }
  const std::span<const std::byte> bytes = attribute.bytes;
  size_t at = part.mapping_pairs_offset.value();
  uint64_t clusters = 0;
  uint64_t lcn = 0;
  while (clusters < wanted) {
    if (at >= bytes.size() || bytes[at] == std::byte{0}) break;
    const auto head = std::to_integer<unsigned>(bytes[at++]);
    const size_t length_size = head & 0x0F;
    const size_t lcn_size = head >> 4;
    if (length_size == 0 || length_size > 8 || lcn_size > 8 ||
        length_size + lcn_size > bytes.size() - at) {
      break;
    }
    const int64_t length = number_at(bytes, at, length_size);
    const int64_t step = number_at(bytes, at + length_size, lcn_size);
    at += length_size + lcn_size;
    if (length <= 0 || static_cast<uint64_t>(length) > wanted - clusters) break;
    const auto count = static_cast<uint64_t>(length);
    clusters += count;
    if (lcn_size == 0) {
      append_piece(runs.pieces, {Piece::Kind::zeros, 0, count * space.unit_size});
      continue;
    }
    lcn += static_cast<uint64_t>(step);
    if (space.append_run(runs.pieces, lcn, count) > 0) runs.sound = false;
  }
  runs.sound = runs.sound && clusters == wanted;
  runs.length = clusters * space.unit_size;
  return runs;
}

}  // namespace undershelf::ntfs
