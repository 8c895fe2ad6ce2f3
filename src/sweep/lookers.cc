#include "sweep/lookers.h"

#include <chrono>
#include <cstring>
#include <utility>

#include "model/blank.h"

namespace undershelf {
namespace {

constexpr size_t kLookedAt = 1 << 17;  // bytes looked at by all, while they are in the cache
constexpr std::chrono::milliseconds kNap{20};  // at most, where few blocks are ready
constexpr unsigned kMostThreads = 4;

}  // namespace

Lookers::Lookers(const Source& source, const SweepPlan& plan, const Detectors& detectors)
    : source_(source), plan_(plan), detectors_(detectors), turns_(source) {
  for (End& end : ends_) end.bytes.resize(front());
  const size_t wanted = std::clamp(std::thread::hardware_concurrency(), 2U, kMostThreads);
  buffers_.resize(std::min(wanted, plan_.blocks()));
  for (auto& buffer : buffers_) buffer.resize(front() + SweepPlan::kBlock);
  threads_.reserve(buffers_.size());
  try {
    for (auto& buffer : buffers_) threads_.emplace_back([&] { work(buffer); });
  } catch (...) {
    stop();  // there are fewer to be had
    throw;
  }
}

Seen Lookers::next() {
  std::unique_lock lock(mutex_);
  std::optional<Seen>& next = seen_of(taken_);
  // Woken for many at once, not to take a processor from those that look again and again.
  while (!next) seen_.wait_for(lock, kNap, [&] { return next && are_many(); });
  Seen seen = *std::exchange(next, std::nullopt);
  ++taken_;
  --ready_;
  lock.unlock();
  wanted_.notify_one();
  if (seen.failure) std::rethrow_exception(seen.failure);
  return seen;
}

void Lookers::stop() {
  {
    const std::lock_guard lock(mutex_);
    is_stopped_ = true;
  }
  wanted_.notify_all();
  for (std::thread& thread : threads_) thread.join();
}

void Lookers::work(std::span<std::byte> buffer) {
  for (;;) {
    std::unique_lock turn = turns_.take();
    const std::optional<size_t> number = take_number();
    if (!number) return;
    Seen seen;
    try {
      seen.bad = read(*number, buffer.subspan(front()));
    } catch (...) {
      seen.failure = std::current_exception();
    }
    if (turn) turn.unlock();
    carry_ends(*number, buffer);
    try {
      if (!seen.failure) look(*number, buffer, seen);
    } catch (...) {
      seen.failure = std::current_exception();
    }
    hand_in(*number, std::move(seen));
  }
}

std::optional<size_t> Lookers::take_number() {
  std::unique_lock lock(mutex_);
  wanted_.wait(lock, [&] { return is_stopped_ || begun_ < taken_ + kAhead; });
  if (is_stopped_ || begun_ == plan_.blocks()) return std::nullopt;
  return begun_++;
}

std::vector<BadRange> Lookers::read(size_t number, std::span<std::byte> to) {
  const uint64_t start = plan_.start(number);
  if (source_.next_data(start) >= plan_.end(number)) {  // a hole
    std::memset(to.data(), 0, plan_.end(number) - start);
    return {};
  }
  std::vector<BadRange> bad = source_.read(start, to.first(plan_.end(number) - start)).bad;
  turns_.note(bad);
  return bad;
}

void Lookers::carry_ends(size_t number, std::span<std::byte> buffer) {
  if (number > 0) {
    const End& before = end_of(number - 1);
    std::unique_lock lock(mutex_);
    read_.wait(lock, [&] { return before.count == number; });
    lock.unlock();
    std::memcpy(buffer.data(), before.bytes.data(), front());
  }
  End& own = end_of(number);
  std::memcpy(own.bytes.data(), buffer.last(front()).data(), front());
  const std::lock_guard lock(mutex_);
  own.count = number + 1;
  read_.notify_all();
}

void Lookers::look(size_t number, std::span<const std::byte> buffer, Seen& seen) const {
  seen.traces.resize(detectors_.size());
  seen.until = plan_.looked_until(number);
  // Of what is looked at, in the buffer.
  const size_t begin = number == 0 ? front() : SweepBlock::kMostBefore;
  SweepBlock part;
  part.in_front = number == 0 ? 0 : begin;
  part.offset = number == 0 ? plan_.range.offset : plan_.looked_until(number - 1);
  const size_t end = begin + (plan_.end(number) - part.offset);
  for (size_t at = begin; part.offset < seen.until;
       at += part.own, part.offset += part.own, part.in_front += part.own) {
    part.own = std::min<uint64_t>(kLookedAt, seen.until - part.offset);
    part.bytes = buffer.subspan(at, std::min(part.own + plan_.kept, end - at));
    if (is_zeros(part.bytes)) continue;  // as much of most media is
    for (size_t i = 0; i < detectors_.size(); ++i) detectors_[i]->look(part, seen.traces[i]);
  }
}

void Lookers::hand_in(size_t number, Seen&& seen) {
  const std::lock_guard lock(mutex_);
  seen_of(number) = std::move(seen);
  ++ready_;
  if (are_many()) seen_.notify_one();
}

}  // namespace undershelf
