// Two rows of things in the same order, of which some belong together.
#pragma once

#include <cstddef>
#include <functional>
#include <utility>
#include <vector>

namespace undershelf {

// Pairs (of the first row, of the second) that every way to pair up has which pairs as many as
// possible, keeps the order of both rows, and pairs only what `fits`. Costs first x second steps
// and 8 bytes for each.
std::vector<std::pair<size_t, size_t>> certain_pairs(
    size_t first, size_t second, const std::function<bool(size_t, size_t)>& fits);

}  // namespace undershelf
