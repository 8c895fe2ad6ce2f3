// Whether bytes are of one value, as space is that nobody wrote to, or that was wiped.
#pragma once

#include <cstddef>
#include <cstring>
#include <span>

namespace undershelf {

// True of no bytes at all.
inline bool is_one_value(std::span<const std::byte> bytes) {
  return bytes.size() < 2 || std::memcmp(bytes.data(), bytes.data() + 1, bytes.size() - 1) == 0;
}

// True of no bytes at all.
inline bool is_zeros(std::span<const std::byte> bytes) {
  return bytes.empty() || (bytes[0] == std::byte{0} && is_one_value(bytes));
}

}  // namespace undershelf
