// The box: processes that hold no file and can do nothing but compute. What decodes bytes off a
// disk runs in there; what dies, hangs or lies in it costs that one answer.
#pragma once

#include <chrono>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>

#include "checking/examine.h"

namespace undershelf::checking {

struct Task {
  uint64_t number = 0;  // the caller's
  uint64_t size = 0;    // bytes
  // Fills `out` with the bytes from `offset` on. Returns how many there are before a hole or the
  // end.
  std::function<size_t(uint64_t offset, std::span<std::byte> out)> read;
  bool was_tried = false;  // the box's own: a process died of it, or with it
};

struct BoxLimits {
  std::chrono::milliseconds patience{30'000};  // for one answer, without a word
  uint64_t memory = 1 << 30;  // bytes that a worker may take besides what it began with
};

// Not to be shared between threads.
class Box {
 public:
  // Up to `workers` processes are started as they are needed. `examination` runs in them, and must
  // not need anything but memory.
  Box(size_t workers, std::function<Examined(content::Bytes&)> examination,
      const BoxLimits& limits = {});
  ~Box();
  Box(const Box&) = delete;
  Box& operator=(const Box&) = delete;

  // Has tasks examined, in the order in which `next` gives them until it gives none; `done` is
  // called with each answer, in any order. A task whose process died is given to another one, once:
  // the system may have ended it for want of memory. An answer that never came is `unknown`, and
  // says why.
  // `stopped` is asked between messages; then what is under way is left. Throws Error (unavailable)
  // if there can be no box here.
  void run(
      const std::function<std::optional<Task>()>& next,
      const std::function<void(uint64_t number, const Examined&)>& done,
      const std::function<bool()>& stopped = [] { return false; });

 private:
  class Worker;
  class Dispatch;
  const size_t workers_;
  const std::function<Examined(content::Bytes&)> examination_;
  const BoxLimits limits_;
};

}  // namespace undershelf::checking
