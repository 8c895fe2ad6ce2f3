// What runs in the box: the worker's side. For the room's own use.
#pragma once

#include <array>
#include <cstdint>
#include <functional>

#include "checking/examine.h"

namespace undershelf::checking {

// Memory that parent and worker share: a few windows on the file.
struct Windows {
  static constexpr size_t kCount = 4;
  std::array<std::array<std::byte, content::Bytes::kMostAtOnce>, kCount> bytes;
};

struct ToWorker {
  uint64_t token = 0;   // of a task: what its messages must bear
  uint64_t size = 0;    // of a task: bytes of the file
  uint64_t length = 0;  // bytes in the window that was asked for; of a task: in the first one
};

struct FromWorker {
  uint64_t token = 0;     // the task's
  uint8_t is_answer = 0;  // or 1
  // What is wanted: bytes from `offset` on, into a window.
  uint64_t offset = 0, length = 0;
  uint32_t window = 0;
  Examined answer;
};

// Never returns: takes tasks from `in` and answers to `out`, until `in` ends. Before the first, all
// that a process can do but compute is given up.
[[noreturn]] void work(int in, int out, Windows& windows, uint64_t memory,
                       const std::function<Examined(content::Bytes&)>& examination);

}  // namespace undershelf::checking
