#include "exporting/buffers.h"

#include <atomic>

namespace undershelf {

std::shared_ptr<std::byte[]> Buffers::take(size_t size) {
  if (!current_ || size > chunk_ - used_) {
    current_ = free_chunk();
    used_ = 0;
  }
  std::byte* bytes = current_.get() + used_;
  used_ += size;
  return {current_, bytes};
}

std::shared_ptr<std::byte[]> Buffers::free_chunk() {
  current_.reset();
  for (const auto& chunk : chunks_) {
    if (chunk.use_count() > 1) continue;
    std::atomic_thread_fence(std::memory_order_acquire);  // after the other thread's last look
    return chunk;
  }
  return chunks_.emplace_back(std::make_shared_for_overwrite<std::byte[]>(chunk_));
}

}  // namespace undershelf
