// Writes what was read, and hashes what was written, while the next piece is read.
#pragma once

#include <condition_variable>
#include <deque>
#include <exception>
#include <functional>
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
  // Once all is written and told of. Throws what that threw.
  void drain();

 private:
  struct Job {
    AlignedBytes buffer;
    std::vector<Part> parts;
    bool slow;
    bool is_written = false;
  };
  using Jobs = std::deque<Job>;
  // Takes one job after the other, and hands it on.
  void work(Jobs& jobs, const std::function<void(const Job&)>& each,
            const std::function<void(Job)>& hand_on);
  void rethrow();

  ImageCopy& image_;
  std::mutex mutex_;
  std::condition_variable changed_;
  Jobs to_write_, to_tell_;
  std::vector<AlignedBytes> free_;
  size_t open_ = 0;  // jobs that were given and are not done
  bool last_ = false;
  std::exception_ptr failure_;
  std::thread writer_, teller_;  // after all they use
};

}  // namespace undershelf
