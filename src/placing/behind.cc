#include "placing/behind.h"

#include <algorithm>
#include <array>
#include <span>

#include "model/blank.h"

namespace undershelf {

Behind behind_end(const Piece& last, const Source& source) {
  constexpr uint64_t kSector = 512;  // bytes
  constexpr size_t kTold = 8;        // bytes before the end: of zeros, nothing tells where they end
  constexpr size_t kFewest = 4;      // bytes behind it: fewer are zeros by chance
  const uint64_t end = last.offset + last.length;
  std::array<std::byte, kTold + kSector> bytes{};
  const size_t rest = (kSector - end % kSector) % kSector;
  const size_t before = std::min<uint64_t>(kTold, last.length);
  const auto read = std::span(bytes).first(before + rest);
  if (rest < kFewest || !source.read(end - before, read).ok()) return Behind::not_told;
  if (!is_zeros(read.subspan(before))) return Behind::more;
  return is_zeros(read.first(before)) ? Behind::blank : Behind::zeros;
}

}  // namespace undershelf
