// Looks at all lost files to their end.
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "model/budget.h"

namespace undershelf {

class Shelf;
class Spaces;

namespace checking {

struct CheckProgress {
  uint64_t files = 0, bytes = 0;          // looked at
  uint64_t all_files = 0, all_bytes = 0;  // that are to be
};

struct CheckOptions {
  size_t workers = 0;              // processes; 0: as many as there are cores
  bool living = false;             // living files too
  std::vector<std::string> kinds;  // types (content/types.h) that are wanted; empty: all
  std::function<void(const CheckProgress&)> progress = [](const CheckProgress&) {};
};

// Every stream whose place is known, that is not gone, and that was not looked at where it is
// thought to lie now. In the order in which they lie. What is found is stored as it comes, so that
// the next call goes on. Files that claim more bytes together than four times the source are not
// all looked at: returns how many were left out. The streams must have been rated. Throws Stopped
// when the budget says so, and what Box::run does.
uint64_t check_files(Shelf& shelf, Spaces& spaces, const CheckOptions& options,
                     const Budget& budget);

}  // namespace checking
}  // namespace undershelf
