#include "sweep/sweep.h"

#include <algorithm>
#include <array>
#include <condition_variable>
#include <cstring>
#include <exception>
#include <mutex>
#include <thread>

#include "model/blank.h"

namespace undershelf {
namespace {

using Clock = std::chrono::steady_clock;

constexpr size_t kBlock = 1 << 19;         // bytes read at once
constexpr size_t kLookedAt = 1 << 17;      // and looked at by all, while they are in the cache
constexpr size_t kBuffers = 4;             // one looked at, the one before, two read ahead
constexpr size_t kTracesAtOnce = 200'000;  // found since the last checkpoint

struct Buffer {
  std::vector<std::byte> bytes;  // what is kept of the block before, then the block
  uint64_t offset = 0;           // byte of the source of the block
  size_t length = 0;             // bytes of the block; 0: the end
  std::vector<BadRange> bad;
};

// Reads blocks in order in a thread of its own.
class Reader {
 public:
  Reader(const Source& source, const ByteRange& range, size_t kept)
      : source_(source), range_(range), kept_(kept) {
    for (Buffer& buffer : buffers_) buffer.bytes.resize(kept + kBlock);
    thread_ = std::thread([this] { run(); });
  }
  ~Reader() {
    {
      const std::lock_guard lock(mutex_);
      stopped_ = true;
    }
    changed_.notify_all();
    thread_.join();
  }
  Reader(const Reader&) = delete;
  Reader& operator=(const Reader&) = delete;

  // The next block; it stays until the call after the next one.
  Buffer& next() {
    std::unique_lock lock(mutex_);
    if (taken_ > 0) released_ = taken_ - 1;
    changed_.notify_all();
    changed_.wait(lock, [&] { return filled_ > taken_ || failure_; });
    if (filled_ <= taken_) std::rethrow_exception(failure_);
    return buffers_[taken_++ % kBuffers];
  }

 private:
  void run() {
    try {
      uint64_t at = range_.offset;
      for (size_t number = 0;; ++number) {
        {
          std::unique_lock lock(mutex_);
          changed_.wait(lock, [&] { return stopped_ || number < released_ + kBuffers; });
          if (stopped_) return;
        }
        Buffer& buffer = buffers_[number % kBuffers];
        buffer.offset = at;
        buffer.length = std::min<uint64_t>(kBlock, range_.end() - at);
        buffer.bad = source_.read(at, std::span(buffer.bytes).subspan(kept_, buffer.length)).bad;
        at += buffer.length;
        {
          const std::lock_guard lock(mutex_);
          filled_ = number + 1;
        }
        changed_.notify_all();
        if (buffer.length == 0) return;
      }
    } catch (...) {
      const std::lock_guard lock(mutex_);
      failure_ = std::current_exception();
      changed_.notify_all();
    }
  }

  const Source& source_;
  const ByteRange range_;
  const size_t kept_;
  std::array<Buffer, kBuffers> buffers_;
  std::mutex mutex_;
  std::condition_variable changed_;
  size_t filled_ = 0;    // blocks
  size_t taken_ = 0;     // blocks
  size_t released_ = 0;  // blocks whose buffers may be used again
  bool stopped_ = false;
  std::exception_ptr failure_;
  std::thread thread_;
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

// Copies what was not looked at yet of the block before, from `position` on and at most `kept`
// bytes, in front of a block. Returns how much that is.
size_t carry(const Buffer* before, size_t kept, uint64_t position, Buffer& to) {
  if (before == nullptr) return 0;
  const size_t carried = std::min(kept, to.offset - position);
  const std::byte* tail = before->bytes.data() + kept + before->length - carried;
  if (carried > 0) std::memcpy(to.bytes.data() + kept - carried, tail, carried);
  return carried;
}

// Shows a block to all detectors, in parts that have `kept` bytes behind them where there are, and
// keeps in it what stands before the next one.
void look(SweepBlock& block, size_t kept, const std::vector<std::unique_ptr<Detector>>& detectors,
          SweepFinds& finds) {
  SweepBlock part;
  part.before = block.before;
  for (size_t at = 0; at < block.own; at += part.own) {
    part.offset = block.offset + at;
    part.own = std::min(kLookedAt, block.own - at);
    part.bytes = block.bytes.subspan(at, std::min(part.own + kept, block.bytes.size() - at));
    const bool blank = is_zeros(part.bytes);  // as much of most media is
    for (size_t i = 0; i < detectors.size() && !blank; ++i) {
      detectors[i]->look(part, finds.traces[i]);
    }
    const auto end = block.bytes.first(at + part.own).last(std::min(part.own, part.before.size()));
    std::ranges::copy(end, part.before.begin());
  }
  block.before = part.before;
}

}  // namespace

uint64_t sweep(const Source& source, const ByteRange& range,
               const std::vector<std::unique_ptr<Detector>>& detectors,
               const SweepCallbacks& callbacks) {
  size_t reach = kSweepStep;
  for (const auto& detector : detectors) reach = std::max(reach, detector->reach());
  // Each block is looked at together with the end of the one before, which is only then complete.
  const size_t kept = (reach + kSweepStep - 1) / kSweepStep * kSweepStep;
  const uint64_t begin = std::min(range.offset, source.size()) / kSweepStep * kSweepStep;
  // What begins near the end of the range may reach behind it.
  const uint64_t end = std::min(range.end(), source.size());
  const uint64_t read_end = std::min(end + kept, source.size());
  Reader reader(source, {begin, read_end - begin}, kept);

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
  const Buffer* before = nullptr;
  SweepBlock block;
  while (position < end) {
    Buffer& buffer = reader.next();
    note_unreadable(buffer.bad, {begin, end - begin}, finds.unreadable);
    const size_t carried = carry(before, kept, position, buffer);
    block.offset = position;
    block.bytes = std::span(buffer.bytes).subspan(kept - carried, carried + buffer.length);
    // Without another block behind it, all of it is looked at now.
    const bool last = buffer.offset + buffer.length >= read_end;
    const uint64_t until =
        last ? end : std::min(end, buffer.offset + buffer.length - std::min(kept, buffer.length));
    if (until > position) {
      block.own = until - position;
      look(block, kept, detectors, finds);
      position = until;
    }
    before = &buffer;
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
