#include "sweep/sweep.h"

#include <algorithm>
#include <array>
#include <atomic>
#include <cassert>
#include <condition_variable>
#include <cstring>
#include <exception>
#include <mutex>
#include <optional>
#include <thread>
#include <tuple>
#include <utility>

#include "model/blank.h"

namespace undershelf {
namespace {

using Clock = std::chrono::steady_clock;

constexpr size_t kBlock = 1 << 19;     // bytes read at once
constexpr size_t kLookedAt = 1 << 17;  // and looked at by all, while they are in the cache
constexpr size_t kAhead = 64;          // blocks looked at that were not asked for yet
constexpr std::chrono::milliseconds kNap{20};
constexpr unsigned kMostThreads = 4;     // that read and look
constexpr size_t kTracesAtOnce = 4'000;  // found since the last checkpoint

using Detectors = std::vector<std::unique_ptr<Detector>>;

// What a sweep looks at, and in which pieces.
struct Plan {
  ByteRange range;    // bytes of the source of what is looked at
  uint64_t read_end;  // byte of the source: what is found may reach behind the range
  size_t kept;        // bytes behind a place that must be there to look at it

  size_t blocks() const { return (read_end - range.offset + kBlock - 1) / kBlock; }
  uint64_t start(size_t number) const { return range.offset + number * uint64_t{kBlock}; }
  uint64_t end(size_t number) const { return std::min(start(number + 1), read_end); }
  // Before which all has been looked at with that block. What has too little behind it is looked at
  // with the next one, if there is one.
  uint64_t looked_until(size_t number) const {
    return number + 1 == blocks() ? range.end() : end(number) - kept;
  }
};

// What was seen in a block.
struct Seen {
  uint64_t until = 0;                      // byte of the source: all before has been looked at
  std::vector<std::vector<Trace>> traces;  // by each detector, each by itself
  std::vector<BadRange> bad;
  std::exception_ptr failure;
};

// Threads each of which reads the next block and looks at it, while it is in its processor's cache.
// So blocks next to each other are read at a time; from the first place on that cannot be read, one
// at a time, as a medium that fails is to be spared.
class Lookers {
 public:
  Lookers(const Source& source, const Plan& plan, const Detectors& detectors)
      : source_(source), plan_(plan), detectors_(detectors), is_damaged_(!source.gaps().empty()) {
    for (size_t i = 0; i < std::min(slots_.size(), plan_.blocks()); ++i) {
      slots_[i].end.resize(front());
    }
    const size_t wanted = std::clamp(std::thread::hardware_concurrency(), 2U, kMostThreads);
    buffers_.resize(std::min(wanted, plan_.blocks()));
    for (auto& buffer : buffers_) buffer.resize(front() + kBlock);
    threads_.reserve(buffers_.size());
    try {
      for (auto& buffer : buffers_) threads_.emplace_back([&] { work(buffer); });
    } catch (...) {
      stop();  // there are not as many to be had
      throw;
    }
  }
  ~Lookers() { stop(); }
  Lookers(const Lookers&) = delete;
  Lookers& operator=(const Lookers&) = delete;

  // What was seen in the next block; there must be one. Throws what reading it did.
  Seen next() {
    std::unique_lock lock(mutex_);
    Slot& slot = slot_of(taken_);
    // Woken for many at once, not to take a processor from those that look again and again.
    const auto are_many = [&] { return slot.seen && ready_ >= kAhead / 2; };
    while (!slot.seen) seen_.wait_for(lock, kNap, are_many);
    Seen seen = *std::exchange(slot.seen, std::nullopt);
    ++taken_;
    --ready_;
    lock.unlock();
    wanted_.notify_one();
    if (seen.failure) std::rethrow_exception(seen.failure);
    return seen;
  }

 private:
  static constexpr size_t kBefore = std::tuple_size_v<decltype(SweepBlock::before)>;

  // What is kept of a block: one more than may be looked at ahead, as the last one's end is asked
  // for once more.
  struct Slot {
    std::vector<std::byte> end;  // what stands before the next block in its buffer
    size_t read = 0;             // number of the block whose end that is, and 1
    std::optional<Seen> seen;
  };
  Slot& slot_of(size_t number) { return slots_[number % slots_.size()]; }

  // Bytes in front of a block in its buffer: the end of the one before.
  size_t front() const { return kBefore + plan_.kept; }

  void stop() {
    {
      const std::lock_guard lock(mutex_);
      is_stopped_ = true;
    }
    wanted_.notify_all();
    for (std::thread& thread : threads_) thread.join();
  }

  void work(std::span<std::byte> buffer) {
    for (;;) {
      std::unique_lock turn(turn_, std::defer_lock);
      if (is_damaged_) turn.lock();
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

  // Nothing when there is no block left, or nobody wants one.
  std::optional<size_t> take_number() {
    std::unique_lock lock(mutex_);
    wanted_.wait(lock, [&] { return is_stopped_ || begun_ < taken_ + kAhead; });
    if (is_stopped_ || begun_ == plan_.blocks()) return std::nullopt;
    return begun_++;
  }

  std::vector<BadRange> read(size_t number, std::span<std::byte> to) {
    const uint64_t start = plan_.start(number);
    std::vector<BadRange> bad = source_.read(start, to.first(plan_.end(number) - start)).bad;
    if (!bad.empty()) is_damaged_ = true;
    return bad;
  }

  // Keeps the end of a block for the next one, and puts the end of the one before in front of it.
  void carry_ends(size_t number, std::span<std::byte> buffer) {
    Slot& own = slot_of(number);
    std::memcpy(own.end.data(), buffer.last(front()).data(), front());
    std::unique_lock lock(mutex_);
    own.read = number + 1;
    read_.notify_all();
    if (number == 0) return;
    const Slot& before = slot_of(number - 1);
    read_.wait(lock, [&] { return before.read == number; });
    lock.unlock();
    std::memcpy(buffer.data(), before.end.data(), front());
  }

  // Shows a block to all detectors, in parts that have enough behind them.
  void look(size_t number, std::span<const std::byte> buffer, Seen& seen) const {
    seen.traces.resize(detectors_.size());
    seen.until = plan_.looked_until(number);
    const size_t begin = number == 0 ? front() : kBefore;  // of what is looked at, in the buffer
    SweepBlock part;
    part.offset = number == 0 ? plan_.range.offset : plan_.looked_until(number - 1);
    const size_t end = begin + (plan_.end(number) - part.offset);
    for (size_t at = begin; part.offset < seen.until; at += part.own, part.offset += part.own) {
      part.own = std::min<uint64_t>(kLookedAt, seen.until - part.offset);
      part.bytes = buffer.subspan(at, std::min(part.own + plan_.kept, end - at));
      std::memcpy(part.before.data(), buffer.data() + at - kBefore, kBefore);
      if (is_zeros(part.bytes)) continue;  // as much of most media is
      for (size_t i = 0; i < detectors_.size(); ++i) detectors_[i]->look(part, seen.traces[i]);
    }
  }

  void hand_in(size_t number, Seen&& seen) {
    const std::lock_guard lock(mutex_);
    slot_of(number).seen = std::move(seen);
    ++ready_;
    if (ready_ >= kAhead / 2) seen_.notify_one();
  }

  const Source& source_;
  const Plan plan_;
  const Detectors& detectors_;
  std::mutex turn_;  // to read, where one does at a time
  std::atomic<bool> is_damaged_;
  std::mutex mutex_;                // of all below, but for the ends of blocks that were read
  std::condition_variable wanted_;  // of a block more
  std::condition_variable read_;    // a block, to its end
  std::condition_variable seen_;    // many blocks
  std::array<Slot, kAhead + 1> slots_;
  size_t begun_ = 0;  // blocks
  size_t taken_ = 0;  // blocks
  size_t ready_ = 0;  // blocks seen that were not taken
  bool is_stopped_ = false;
  std::vector<std::vector<std::byte>> buffers_;  // of each thread: the end before, and a block
  std::vector<std::thread> threads_;
};

size_t count(const SweepFinds& finds) {
  size_t found = 0;
  for (const auto& traces : finds.traces) found += traces.size();
  return found;
}

// Adds what lies within a range to a list of ranges, in order.
void note_unreadable(const std::vector<BadRange>& bad, const ByteRange& within,
                     std::vector<ByteRange>& known) {
  for (const ByteRange& range : bad) {
    const ByteRange inside = overlap(range, within);
    if (inside.length == 0) continue;
    if (!known.empty() && known.back().end() == inside.offset) {
      known.back().length += inside.length;
    } else {
      known.push_back(inside);
    }
  }
}

}  // namespace

uint64_t sweep(const Source& source, const ByteRange& range, const Detectors& detectors,
               const SweepCallbacks& callbacks) {
  size_t reach = kSweepStep;
  for (const auto& detector : detectors) reach = std::max(reach, detector->reach());
  const size_t kept = (reach + kSweepStep - 1) / kSweepStep * kSweepStep;
  assert(kept <= kBlock);
  const uint64_t begin = std::min(range.offset, source.size()) / kSweepStep * kSweepStep;
  const uint64_t end = std::min(range.end(), source.size());
  const Plan plan{{begin, end - begin}, std::min(end + kept, source.size()), kept};
  Lookers lookers(source, plan, detectors);

  SweepFinds finds;
  finds.traces.resize(detectors.size());
  uint64_t position = begin;
  auto told = Clock::now();
  auto saved = told;
  const auto save = [&] {
    callbacks.checkpoint(position, std::move(finds));
    finds = {};
    finds.traces.resize(detectors.size());
    saved = Clock::now();
  };
  while (position < end) {
    const Seen seen = lookers.next();
    note_unreadable(seen.bad, plan.range, finds.unreadable);
    for (size_t i = 0; i < detectors.size(); ++i) {
      for (const Trace& trace : seen.traces[i]) detectors[i]->keep(trace, finds.traces[i]);
    }
    position = seen.until;
    const auto now = Clock::now();
    if (now - saved > callbacks.between_checkpoints || count(finds) > kTracesAtOnce) save();
    if (now - told >= callbacks.between_progress) {
      told = now;
      if (!callbacks.progress(position, finds)) break;
    }
  }
  save();
  return position;
}

}  // namespace undershelf
