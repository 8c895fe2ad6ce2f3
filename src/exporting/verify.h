// Holds a bag against its own lists (RFC 8493), the shelf it came from, and what its files are.
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <vector>

#include "exporting/bag_writer.h"
#include "model/budget.h"

namespace undershelf {

class Shelf;

struct VerifyOptions {
  std::string directory;
  bool check = true;  // look at the files that are said to be complete, to their ends
  const Interrupts* interrupts = nullptr;  // asked once, it ends in order
  // Told the bytes read so far and the bytes there are in all.
  std::function<void(uint64_t, uint64_t)> progress = [](uint64_t, uint64_t) {};
};

struct VerifyResult {
  FileSum payload;         // files of the manifest that are there and as it says
  uint64_t with_gaps = 0;  // of these: the list of the export says that bytes are missing
  uint64_t changed = 0;    // of these: it says that they are not what the scan read
  uint64_t in_shelf = 0;   // of these: as the shelf has them
  uint64_t verified = 0, consistent = 0, unknown = 0;  // of those looked at: how far they are sound
  // Complete files whose own structure breaks off: where, and why. They may have been so before.
  std::vector<std::string> broken;
  std::vector<std::string> faults;  // one sentence each: what the bag is not as it should be
  bool stopped = false;
};

// `shelf`: if not null, what it says of each file is compared. Nothing is written, no link is
// followed. Throws Error (unavailable) if the directory holds no bag.
VerifyResult verify_bag(const VerifyOptions& options, const Shelf* shelf);

}  // namespace undershelf
