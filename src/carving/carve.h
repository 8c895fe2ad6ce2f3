// Files by their content alone.
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "placing/claims.h"

namespace undershelf {

class Budget;
class Shelf;
class Spaces;
namespace carving {

struct CarveOptions {
  std::vector<std::string> kinds;  // types (content/types.h) that are wanted; empty: all
  bool unverified = false;         // keep what is not sound to its end, too
  // How many of how many starts were looked at.
  std::function<void(uint64_t done, uint64_t all)> progress = [](uint64_t, uint64_t) {};
};

struct Carved {
  uint64_t files = 0;     // that the shelf holds now
  uint64_t left_out = 0;  // starts that were not looked at to their end: too much would be read
};

// Walks what begins at the starts that a sweep found outside of living files and of lost files that
// are sound, to its end; what is sound becomes an entry without a volume. What was found displaces
// what is around it: pieces of others that lie on both sides of it are tried as one. Two finds of
// the same bytes, or of those of a lost file with a name, are one. Entries of an earlier run keep
// their ids; those that are not found again are dropped. Throws Stopped when the budget says so,
// and what Box::run does.
Carved carve(Shelf& shelf, Spaces& spaces, const Claims& claims, const CarveOptions& options,
             const Budget& budget);

}  // namespace carving
}  // namespace undershelf
