// Reads a source in blocks and looks at each, in threads; what was seen is told in order.
#pragma once

#include <algorithm>
#include <array>
#include <condition_variable>
#include <cstdint>
#include <exception>
#include <memory>
#include <mutex>
#include <optional>
#include <span>
#include <thread>
#include <vector>

#include "fs/detector.h"
#include "source/by_two.h"
#include "source/source.h"

namespace undershelf {

// What a sweep looks at, and in which blocks.
struct SweepPlan {
  static constexpr size_t kBlock = 1 << 19;  // bytes read at once

  ByteRange range;    // bytes of the source of what is looked at
  uint64_t read_end;  // byte of the source: what is found may reach behind the range
  size_t kept;        // bytes behind a place that must be there to look at it; at most kBlock

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
  // Source and detectors must outlive it. Throws std::system_error if there can be no threads.
  Lookers(const Source& source, const SweepPlan& plan, const Detectors& detectors);
  ~Lookers() { stop(); }
  Lookers(const Lookers&) = delete;
  Lookers& operator=(const Lookers&) = delete;

  // What was seen in the next block; there must be one. Throws what reading it did.
  Seen next();

 private:
  static constexpr size_t kAhead = 64;  // blocks looked at that were not asked for yet

  // The end of a block, as it is to stand before the next one in its buffer. Each is put here once
  // the one before it was taken out, so that two are enough.
  struct End {
    std::vector<std::byte> bytes;
    size_t count = 0;  // blocks up to that one
  };
  End& end_of(size_t number) { return ends_[number % ends_.size()]; }
  std::optional<Seen>& seen_of(size_t number) { return looked_at_[number % looked_at_.size()]; }

  // Bytes in front of a block in its buffer: the end of the one before.
  size_t front() const { return SweepBlock::kMostBefore + plan_.kept; }

  void stop();

  void work(std::span<std::byte> buffer);

  // Nothing when there is no block left, or nobody wants one.
  std::optional<size_t> take_number();

  std::vector<BadRange> read(size_t number, std::span<std::byte> to);

  // Puts the end of the block before in front of one, and keeps its own for the next.
  void carry_ends(size_t number, std::span<std::byte> buffer);

  // Shows a block to all detectors, in parts that have enough behind them.
  void look(size_t number, std::span<const std::byte> buffer, Seen& seen) const;

  void hand_in(size_t number, Seen&& seen);

  // Whether so many blocks are ready that they are worth waking somebody, or all that are left.
  bool are_many() const { return ready_ >= kAhead / 2 || taken_ + ready_ == plan_.blocks(); }

  const Source& source_;
  const SweepPlan plan_;
  const Detectors& detectors_;
  Turns turns_;
  std::mutex mutex_;                // of all below, but for the ends of blocks that were read
  std::condition_variable wanted_;  // of a block more
  std::condition_variable read_;    // a block, to its end
  std::condition_variable seen_;    // many blocks
  std::array<End, 2> ends_;
  std::array<std::optional<Seen>, kAhead> looked_at_;
  size_t begun_ = 0;  // blocks
  size_t taken_ = 0;  // blocks
  size_t ready_ = 0;  // blocks seen that were not taken
  bool is_stopped_ = false;
  std::vector<std::vector<std::byte>> buffers_;  // of each thread: the end before, and a block
  std::vector<std::thread> threads_;
};

}  // namespace undershelf
