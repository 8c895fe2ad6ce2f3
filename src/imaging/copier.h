// Copies a medium that may be failing, with growing patience.
#pragma once

#include <cstdint>
#include <functional>
#include <string_view>
#include <vector>

#include "model/budget.h"
#include "source/image_copy.h"
#include "source/medium.h"

namespace undershelf {

struct CopyProgress {
  std::string_view stage;  // what is done now, for a line of progress
  uint64_t read = 0;       // bytes, of all of the medium, as the next three
  uint64_t failed = 0;
  uint64_t slow = 0;   // of those read
  uint64_t left = 0;   // not tried, or to be tried again
  uint64_t now = 0;    // bytes read by this run
  double seconds = 0;  // since it began
};

struct CopyOptions {
  using Seconds = Medium::Seconds;
  ByteRange range;  // of the medium, to which it keeps
  std::vector<std::vector<ByteRange>>
      first;                               // what is wanted first, each before the next; in order
  bool rest = true;                        // after that the others, too
  bool backwards = false;                  // from the end to the beginning
  uint32_t attempts = 3;                   // by single units, at what fails; all runs together
  uint64_t most_per_second = 0;            // bytes; 0: as fast as it goes
  Seconds patience{30};                    // for one answer
  Seconds work{0}, pause{0};               // after so long at work, so long a pause; 0: none
  Seconds wait{600};                       // for a medium that is gone
  const Interrupts* interrupts = nullptr;  // may be null
  // Told twice a second.
  std::function<void(const CopyProgress&)> progress = [](const CopyProgress&) {};
};

enum class CopyEnd {
  done,
  stopped,  // the user asked to
  gone,     // the medium did not come back
};

// Reads what the image does not have: each range of `first` and then the rest, in each of these
// first what comes fast, in large pieces, stepping over areas that fail or stall; then these areas
// from both ends; then unit by unit; then what failed, again. Whatever comes is kept, at once.
// Throws Error (incomplete) if the image cannot be written.
CopyEnd copy_medium(Medium& medium, ImageCopy& image, const CopyOptions& options);

}  // namespace undershelf
