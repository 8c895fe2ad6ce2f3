// Advice that follows from the shelf itself, whatever was sought. For the advising folder's own
// use.
#pragma once

#include <vector>

#include "advising/advise.h"

namespace undershelf {

// Filters that a call leaves out: all.
constexpr const char* kAll = "*";

// The most promising first.
std::vector<Advice> advise_on_shelf(const Shelf& shelf);

}  // namespace undershelf
