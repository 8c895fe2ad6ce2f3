// What is asked for bytes just once: a medium that may be failing, or a server.
#pragma once

#include <chrono>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "model/range.h"

namespace undershelf {

// What became of one request.
struct Attempt {
  std::vector<ByteRange> bad;  // in bytes of the medium, in order: what is not there; whole units
  int error = 0;               // errno of the last of these
  bool gone = false;  // the device or the server itself is not there: no fault of these bytes
  bool ok() const { return bad.empty(); }
};

// Never written. Not to be shared between threads.
class Medium {
 public:
  using Seconds = std::chrono::duration<double>;
  // What buffers must be aligned to in memory, in bytes, unless it takes any.
  static constexpr size_t kAlignment = 4096;
  virtual bool takes_any_memory() const { return false; }

  virtual ~Medium() = default;
  virtual uint64_t size() const = 0;         // bytes
  virtual uint32_t sector_size() const = 0;  // bytes: 512 or 4096
  // The least that can be asked for, in bytes: a power of two, not less than a sector. Requests
  // are multiples of it, at multiples of it; one that reaches the end may be shorter.
  virtual uint32_t unit() const = 0;
  // Asks once for each byte, past all caches where that is possible. No answer within `limit`: what
  // is not there by then is bad, with ETIMEDOUT. What is bad is not defined in `out`.
  virtual Attempt read(uint64_t offset, std::span<std::byte> out, Seconds limit) = 0;
  // After a request found it gone: whether it is back, the same as before by its size.
  virtual bool is_back() = 0;
};

// An image file, a block device (both read past the page cache where the kernel allows it), or a
// network block device. Throws Error (unavailable) like open_source(). Split images have none.
std::unique_ptr<Medium> open_medium(const std::string& path);

// Memory for what is read: `size` bytes, aligned.
struct FreeAligned {
  void operator()(std::byte* bytes) const;
};
using AlignedBytes = std::unique_ptr<std::byte[], FreeAligned>;
AlignedBytes aligned_bytes(size_t size);

}  // namespace undershelf
