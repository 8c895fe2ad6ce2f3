// Numbers in as few bytes as they need, for what the shelf keeps packed: seven bits a byte, the
// lowest first, the eighth bit set in all but the last byte.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

namespace undershelf {

inline void put_varint(std::string& out, uint64_t value) {
  for (; value >= 0x80; value >>= 7) out.push_back(static_cast<char>(value | 0x80));
  out.push_back(static_cast<char>(value));
}

// Takes one from the beginning of `in`. False if none stands there.
inline bool take_varint(std::string_view& in, uint64_t& value) {
  value = 0;
  for (int shift = 0; shift < 64 && !in.empty(); shift += 7) {
    const auto byte = static_cast<uint8_t>(in.front());
    in.remove_prefix(1);
    value |= static_cast<uint64_t>(byte & 0x7F) << shift;
    if ((byte & 0x80) == 0) return true;
  }
  return false;
}

// A difference of two numbers, modulo 2^64, so that small ones are short whichever way they go.
inline uint64_t zigzag(uint64_t difference) {
  return (difference << 1) ^ (~(difference >> 63) + 1);
}
inline uint64_t from_zigzag(uint64_t packed) { return (packed >> 1) ^ (~(packed & 1) + 1); }

}  // namespace undershelf
