// Memory for pieces of files on their way from one thread to another.
#pragma once

#include <cstddef>
#include <memory>
#include <vector>

namespace undershelf {

// take() is to be called from one thread; what it gives may be let go from any. Memory is used
// again, and small pieces share it: to ask for it anew each time would cost as much as all else
// that is done for a small file.
class Buffers {
 public:
  explicit Buffers(size_t chunk) : chunk_(chunk) {}
  // `size` bytes, not cleared; at most `chunk`.
  std::shared_ptr<std::byte[]> take(size_t size);

 private:
  std::shared_ptr<std::byte[]> free_chunk();

  size_t chunk_;                                      // bytes
  std::vector<std::shared_ptr<std::byte[]>> chunks_;  // all that were made
  std::shared_ptr<std::byte[]> current_;              // one of them
  size_t used_ = 0;                                   // bytes of it
};

}  // namespace undershelf
