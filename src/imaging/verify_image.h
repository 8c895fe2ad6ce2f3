// Holds an image of a medium against its ledger (docs/ledger.md).
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "model/budget.h"

namespace undershelf {

struct ImageVerified {
  uint64_t as_listed = 0;           // bytes that are as the ledger's hashes say
  uint64_t unhashed = 0;            // bytes that were read, and of which the ledger has no hash
  uint64_t missing = 0;             // bytes that were not read from the medium
  std::vector<std::string> faults;  // one sentence each
  bool stopped = false;
};

// Reads all that the ledger beside `image` has hashes of. `progress` is told the bytes read and all
// there are. Throws Error (unavailable) if there is no image, no ledger, or one of another.
ImageVerified verify_image(const std::string& image, const Interrupts& interrupts,
                           const std::function<void(uint64_t, uint64_t)>& progress);

}  // namespace undershelf
