// Reads parts of a source and looks at them, from two threads at a time.
#pragma once

#include <atomic>
#include <cstddef>
#include <functional>
#include <mutex>
#include <span>
#include <vector>

#include "source/source.h"

namespace undershelf {

// Lets threads read a source at a time as long as all of it can be read; from the first place on
// that cannot, one after the other, as a medium that fails is to be spared. May be used from
// several threads.
class Turns {
 public:
  // `source` is not kept.
  explicit Turns(const Source& source) : one_at_a_time_(!source.gaps().empty()) {}
  // To be held from when it is decided what is read next until that is read.
  std::unique_lock<std::mutex> take() {
    std::unique_lock turn(mutex_, std::defer_lock);
    if (one_at_a_time_) turn.lock();
    return turn;
  }
  // To be told of what each read could not get.
  void note(const std::vector<BadRange>& bad) {
    if (!bad.empty()) one_at_a_time_ = true;
  }

 private:
  std::atomic<bool> one_at_a_time_;
  std::mutex mutex_;
};

// `number`: of the range; `bytes`: of all of it, zeros where `is_whole` is false and they could not
// be read.
using LookAtPart =
    std::function<void(size_t number, std::span<const std::byte> bytes, bool is_whole)>;

// Reads ranges of the source (bytes), begun in their order, and shows each to `look`, which is
// called from this thread and another one. Throws what reading or `look` does, once both have
// ended.
void look_by_two(const Source& source, std::span<const ByteRange> ranges, const LookAtPart& look);

}  // namespace undershelf
