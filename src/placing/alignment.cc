#include "placing/alignment.h"

#include <algorithm>
#include <cstdint>
#include <optional>

namespace undershelf {
namespace {

// Longest common subsequences of the beginnings, and of the ends, of both rows.
class Lengths {
 public:
  Lengths(size_t first, size_t second) : width_(second + 1), cells_((first + 1) * width_) {}
  uint32_t& at(size_t i, size_t j) { return cells_[i * width_ + j]; }

 private:
  size_t width_;
  std::vector<uint32_t> cells_;
};

}  // namespace

std::vector<std::pair<size_t, size_t>> certain_pairs(
    size_t first, size_t second, const std::function<bool(size_t, size_t)>& fits) {
  Lengths before(first, second), behind(first, second);
  for (size_t i = 0; i < first; ++i) {
    for (size_t j = 0; j < second; ++j) {
      const uint32_t paired = before.at(i, j) + (fits(i, j) ? 1 : 0);
      before.at(i + 1, j + 1) = std::max({before.at(i, j + 1), before.at(i + 1, j), paired});
    }
  }
  for (size_t i = first; i-- > 0;) {
    for (size_t j = second; j-- > 0;) {
      const uint32_t paired = behind.at(i + 1, j + 1) + (fits(i, j) ? 1 : 0);
      behind.at(i, j) = std::max({behind.at(i + 1, j), behind.at(i, j + 1), paired});
    }
  }
  const uint32_t most = before.at(first, second);
  std::vector<std::pair<size_t, size_t>> pairs;
  for (size_t i = 0; i < first; ++i) {
    // The one partner it has in all best ways; none if one of these leaves it alone.
    std::optional<size_t> partner;
    bool open = false;
    for (size_t j = 0; j <= second && !open; ++j) {
      if (before.at(i, j) + behind.at(i + 1, j) == most) open = true;
      if (j == second || !fits(i, j)) continue;
      if (before.at(i, j) + 1 + behind.at(i + 1, j + 1) != most) continue;
      open = open || partner.has_value();
      partner = j;
    }
    if (partner && !open) pairs.emplace_back(i, *partner);
  }
  return pairs;
}

}  // namespace undershelf
