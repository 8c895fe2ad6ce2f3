#include "imaging/keeper.h"

namespace undershelf {
namespace {

constexpr size_t kBuffers = 16;

}  // namespace

Keeper::Keeper(ImageCopy& image) : image_(image) {
  for (size_t i = 0; i < kBuffers; ++i) free_.push_back(aligned_bytes(kBlock));
  const auto each_part = [](const Job& job, auto visit) {
    for (const Part& part : job.parts) {
      visit(part.range.offset, std::span(job.buffer.get() + part.at, part.range.length));
    }
  };
  writer_ = std::thread([this, each_part] {
    work(
        to_write_,
        [&](const Job& job) {
          each_part(
              job, [&](uint64_t at, std::span<const std::byte> bytes) { image_.write(at, bytes); });
        },
        [&](Job job) { to_tell_.push_back(std::move(job)); });
  });
  teller_ = std::thread([this, each_part] {
    work(
        to_tell_,
        [&](const Job& job) {
          each_part(job, [&](uint64_t at, std::span<const std::byte> bytes) {
            image_.tell(at, bytes, job.slow);
          });
        },
        [&](Job job) {
          free_.push_back(std::move(job.buffer));
          --open_;
        });
  });
}

Keeper::~Keeper() {
  {
    const std::lock_guard lock(mutex_);
    last_ = true;
  }
  changed_.notify_all();
  writer_.join();
  teller_.join();
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
  to_write_.push_back({std::move(buffer), std::move(parts), slow});
  ++open_;
  changed_.notify_all();
}

void Keeper::drain() {
  std::unique_lock lock(mutex_);
  changed_.wait(lock, [&] { return open_ == 0; });
  rethrow();
}

void Keeper::rethrow() {
  if (failure_) std::rethrow_exception(failure_);
}

void Keeper::work(Jobs& jobs, const std::function<void(const Job&)>& each,
                  const std::function<void(Job)>& hand_on) {
  std::unique_lock lock(mutex_);
  while (true) {
    changed_.wait(lock, [&] { return !jobs.empty() || (last_ && open_ == 0); });
    if (jobs.empty()) return;
    Job job = std::move(jobs.front());
    jobs.pop_front();
    // What is not written must not be told of; what is, must be, whatever failed since.
    const bool failed = failure_ != nullptr && !job.is_written;
    lock.unlock();
    std::exception_ptr failure;
    try {
      if (!failed) each(job);
      job.is_written = !failed;
    } catch (...) {
      failure = std::current_exception();
    }
    lock.lock();
    if (failure) failure_ = failure;
    hand_on(std::move(job));
    changed_.notify_all();
  }
}

}  // namespace undershelf
