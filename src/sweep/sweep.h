// The one pass over a source: reads it in large blocks and shows each to all detectors.
#pragma once

#include <chrono>
#include <functional>
#include <vector>

#include "fs/detector.h"
#include "source/source.h"

namespace undershelf {

// What was met since the last checkpoint.
struct SweepFinds {
  std::vector<std::vector<Trace>> traces;  // of each detector, in their order
  std::vector<ByteRange> unreadable;       // bytes of the source
};

struct SweepCallbacks {
  // Told several times a second how far it is, and what was found since the last checkpoint; false
  // stops the sweep in order.
  std::function<bool(uint64_t position, const SweepFinds& finds)> progress;
  // Gets everything found since the last call, every few seconds, when much was found, and at the
  // end: all that begins before `position` has been looked at.
  std::function<void(uint64_t position, SweepFinds&& finds)> checkpoint;
  std::chrono::milliseconds between_checkpoints{5000};
  std::chrono::milliseconds between_progress{200};
};

// Looks at all of `range`, from its start (rounded down to 512 bytes) on. Returns the position
// reached: the range's end, unless it was stopped. Reads and looks in threads of its own; callbacks
// are called in this one.
uint64_t sweep(const Source& source, const ByteRange& range, const Detectors& detectors,
               const SweepCallbacks& callbacks);

}  // namespace undershelf
