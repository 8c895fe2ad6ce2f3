// Structures out of bytes that may end anywhere. For the readers' own use.
#pragma once

#include <cstddef>
#include <cstdint>
#include <cstring>
#include <optional>
#include <span>

namespace undershelf {

// A structure at `offset` of `bytes`; nothing if it does not lie within them.
template <typename T>
std::optional<T> load(std::span<const std::byte> bytes, uint64_t offset = 0) {
  if (offset > bytes.size() || bytes.size() - offset < sizeof(T)) return std::nullopt;
  T value;
  std::memcpy(static_cast<void*>(&value), bytes.data() + offset, sizeof(T));
  return value;
}

}  // namespace undershelf
