// A sorted vector as a set.
#pragma once

#include <algorithm>
#include <vector>

namespace undershelf {

// Sorts, and drops what is there twice.
template <typename T>
void make_set(std::vector<T>& values) {
  std::ranges::sort(values);
  values.erase(std::unique(values.begin(), values.end()), values.end());
}

}  // namespace undershelf
