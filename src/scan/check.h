// How much of lost content a scan reads, in rising order.
#pragma once

#include <algorithm>
#include <array>
#include <cstdint>
#include <string_view>

namespace undershelf {

enum class Check : uint8_t { none, sample, full };

inline constexpr std::array<std::string_view, 3> kChecks = {"none", "sample", "full"};

inline std::string_view to_text(Check check) { return kChecks[static_cast<size_t>(check)]; }

// `none` if it is no such word.
inline Check check_named(std::string_view word) {
  const auto* found = std::ranges::find(kChecks, word);
  return found == kChecks.end() ? Check::none : static_cast<Check>(found - kChecks.begin());
}

}  // namespace undershelf
