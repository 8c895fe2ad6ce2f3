// Writes and hashes what was read while the next piece is read.
#pragma once

#include <condition_variable>
#include <deque>
#include <exception>
#include <mutex>
#include <thread>
#include <vector>

#include "source/image_copy.h"
#include "source/medium.h"

namespace undershelf {

class Keeper {
 public:
  static constexpr size_t kBlock = 1 << 20;  // bytes of a buffer

  explicit Keeper(ImageCopy& image);
  ~Keeper();
  Keeper(const Keeper&) = delete;
  Keeper& operator=(const Keeper&) = delete;

  // A buffer to read into, as soon as one is free. Throws what writing threw.
  AlignedBytes buffer();
  struct Part {
    ByteRange range;  // of the medium
    size_t at;        // in the buffer
  };
  // Keeps parts of a buffer, in order behind what was given before, and takes it back.
  void keep(AlignedBytes buffer, std::vector<Part> parts, bool slow);
  // Once all is written. Throws what writing threw.
  void drain();

 private:
  struct Job {
    AlignedBytes buffer;
    std::vector<Part> parts;
    bool slow;
  };
  void work();
  void rethrow();

  ImageCopy& image_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::deque<Job> jobs_;
  std::vector<AlignedBytes> free_;
  bool busy_ = false, last_ = false;
  std::exception_ptr failure_;
  std::thread thread_;  // after all it uses
};

}  // namespace undershelf
