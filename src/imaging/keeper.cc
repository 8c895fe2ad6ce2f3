#include "imaging/keeper.h"

namespace undershelf {
namespace {

constexpr size_t kBuffers = 8;

}  // namespace

Keeper::Keeper(ImageCopy& image) : image_(image) {
  for (size_t i = 0; i < kBuffers; ++i) free_.push_back(aligned_bytes(kBlock));
  thread_ = std::thread([this] { work(); });
}

Keeper::~Keeper() {
  {
    const std::lock_guard lock(mutex_);
    last_ = true;
  }
  changed_.notify_all();
  thread_.join();
}

AlignedBytes Keeper::buffer() {
  std::unique_lock lock(mutex_);
  changed_.wait(lock, [&] { return !free_.empty(); });
  rethrow();
  AlignedBytes buffer = std::move(free_.back());
  free_.pop_back();
  return buffer;
}

void Keeper::keep(AlignedBytes buffer, std::vector<Part> parts, bool slow) {
  const std::lock_guard lock(mutex_);
  jobs_.push_back({std::move(buffer), std::move(parts), slow});
  changed_.notify_all();
}

void Keeper::drain() {
  std::unique_lock lock(mutex_);
  changed_.wait(lock, [&] { return jobs_.empty() && !busy_; });
  rethrow();
}

void Keeper::rethrow() {
  if (failure_) std::rethrow_exception(failure_);
}

void Keeper::work() {
  std::unique_lock lock(mutex_);
  while (true) {
    changed_.wait(lock, [&] { return last_ || !jobs_.empty(); });
    if (jobs_.empty()) return;
    Job job = std::move(jobs_.front());
    jobs_.pop_front();
    busy_ = true;
    const bool failed = failure_ != nullptr;
    lock.unlock();
    try {
      for (const Part& part : job.parts) {
        if (failed) break;
        image_.put(part.range.offset, {job.buffer.get() + part.at, part.range.length}, job.slow);
      }
      lock.lock();
    } catch (...) {
      lock.lock();
      failure_ = std::current_exception();
    }
    free_.push_back(std::move(job.buffer));
    busy_ = false;
    changed_.notify_all();
  }
}

}  // namespace undershelf
