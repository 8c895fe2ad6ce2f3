#include "imaging/copier.h"

#include <algorithm>
#include <cerrno>
#include <thread>

#include "imaging/keeper.h"

namespace undershelf {
namespace {

using Clock = std::chrono::steady_clock;
using Seconds = Medium::Seconds;
using State = Finding::State;

constexpr uint64_t kLarge = Keeper::kBlock;            // bytes of the first pass's requests
constexpr uint64_t kSmall = 64 * 1024;                 // of those at the ends of areas that failed
constexpr uint64_t kLongestStep = uint64_t{64} << 20;  // bytes stepped over at once, at most
constexpr Seconds kSlow(1);        // an answer that takes longer, and much longer than others do
constexpr double kMuchLonger = 8;  // times the usual
constexpr int kMostDrops = 3;      // a request at which the medium goes each time has failed
constexpr std::chrono::milliseconds kNap(100);

struct Gone {};

class Copier {
 public:
  Copier(Medium& medium, ImageCopy& image, const CopyOptions& options)
      : medium_(medium), image_(image), options_(options), keeper_(image) {}

  CopyEnd run() {
    CopyEnd end = CopyEnd::done;
    try {
      for (const std::vector<ByteRange>& wanted : options_.first) copy(whole_units(wanted));
      if (options_.rest) copy({overlap(options_.range, {0, medium_.size()})});
    } catch (const Stopped&) {
      end = CopyEnd::stopped;
    } catch (const Gone&) {
      end = CopyEnd::gone;
    }
    keeper_.drain();
    image_.flush();
    return end;
  }

 private:
  void copy(const std::vector<ByteRange>& wanted) {
    begin("Reading");
    for (const ByteRange& range : pending(wanted, State::untried)) sweep(range);
    begin("Reading what was stepped over");
    for (const ByteRange& range : pending(wanted, State::skipped)) trim(range);
    begin("Reading sector by sector");
    for (const ByteRange& range : pending(wanted, State::skipped)) {
      each_unit(range, options_.backwards, [&](const ByteRange& unit) { try_unit(unit, 0); });
    }
    for (uint32_t attempt = 1; attempt < options_.attempts; ++attempt) again(wanted, attempt);
  }

  // What failed so many times, and no more, once more; each time from the other side.
  void again(const std::vector<ByteRange>& wanted, uint32_t attempt) {
    begin("Trying again what failed");
    const bool backwards = options_.backwards != (attempt % 2 == 1);
    std::vector<ByteRange> failed;
    for (const ByteRange& range : wanted) {
      for (const Noted& noted : image_.in(range)) {
        const bool due = noted.finding.state == State::failed && noted.finding.attempts == attempt;
        if (due) failed.push_back(noted.range);
      }
    }
    if (backwards) std::ranges::reverse(failed);
    for (const ByteRange& range : failed) {
      each_unit(range, backwards, [&](const ByteRange& unit) { try_unit(unit, attempt); });
    }
  }

  // Every part of what is wanted that is in this state now, in the order in which it is read.
  std::vector<ByteRange> pending(const std::vector<ByteRange>& wanted, State state) {
    keeper_.drain();
    std::vector<ByteRange> ranges;
    for (const ByteRange& range : wanted) {
      std::ranges::move(image_.in(range, state), std::back_inserter(ranges));
    }
    if (options_.backwards) std::ranges::reverse(ranges);
    return ranges;
  }

  // In large pieces; what fails or stalls, and then more and more behind it, is left for later.
  void sweep(const ByteRange& range) {
    uint64_t step = 0;  // bytes to be stepped over after the next failure, at least
    each_block(range, kLarge, options_.backwards, [&](const ByteRange& block) {
      const Tried tried = ask(block);
      for (const ByteRange& bad : tried.bad) image_.note(bad, {State::skipped});
      if (tried.bad.empty() && !tried.slow) {
        step = 0;
        return uint64_t{0};
      }
      step = std::clamp(2 * step, kLarge,
                        std::max(kLarge, std::min(kLongestStep, medium_.size() / 64)));
      return step;
    });
  }

  // An area that failed: from its beginning to the first failure, from its end to the last, and
  // then between them. What fails is left for later.
  void trim(const ByteRange& area) {
    uint64_t from = area.offset;
    uint64_t to = area.end();
    const auto good = [&](const ByteRange& block) {
      const Tried tried = ask(block);
      if (block.offset == from) {
        from = block.end();
      } else {
        to = block.offset;
      }
      return tried.bad.empty() && !tried.slow;
    };
    while (from < to && good(block_at(from, to, kSmall))) {
    }
    while (from < to && good(block_before(from, to, kSmall))) {
    }
    while (from < to) good(block_at(from, to, kSmall));
  }

  void try_unit(const ByteRange& unit, uint32_t attempts) {
    const Tried tried = ask(unit);
    learn(unit, !tried.bad.empty());
    for (const ByteRange& bad : tried.bad) {
      image_.note(bad, {State::failed, tried.slow, attempts + 1, tried.error});
    }
  }

  // Many drives keep physical sectors of 4,096 bytes and speak of logical ones of 512: of these
  // eight then fail together, always, and asking for each is eight failing reads for one.
  void learn(const ByteRange& unit, bool failed) {
    constexpr unsigned kEnough = 4;  // physical sectors that failed as a whole, and none in part
    if (unit.length * 8 != kPhysical) return;
    const uint64_t block = unit.offset / kPhysical;
    if (block != block_) {
      block_ = block;
      tried_ = failed_ = 0;
    }
    failed_ += failed;
    if (++tried_ < 8) return;
    whole_ += failed_ == 8;
    in_part_ = in_part_ || (failed_ > 0 && failed_ < 8);
    if (whole_ >= kEnough && !in_part_) unit_ = kPhysical;
  }

  struct Tried {
    std::vector<ByteRange> bad;
    int error = 0;
    bool slow = false;
  };

  // Asks for at most kLarge bytes and keeps what comes. Waits for a medium that is gone.
  Tried ask(const ByteRange& range) {
    Tried tried;
    std::vector<ByteRange> open = {range};
    for (int drops = 0; !open.empty() && drops < kMostDrops;) {
      std::vector<ByteRange> next;
      bool gone = false;
      for (const ByteRange& part : open) {
        Attempt attempt = ask_once(part, tried.slow);
        gone = gone || attempt.gone;
        std::vector<ByteRange>& to = attempt.gone ? next : tried.bad;
        std::ranges::move(attempt.bad, std::back_inserter(to));
        if (!attempt.ok()) tried.error = attempt.error;
      }
      if (gone) wait_for_medium();
      drops += gone ? 1 : 0;
      open = std::move(next);
    }
    std::ranges::move(open, std::back_inserter(tried.bad));
    return tried;
  }

  Attempt ask_once(const ByteRange& range, bool& slow) {
    be_paced();
    AlignedBytes buffer = keeper_.buffer();
    const Clock::time_point begun = Clock::now();
    Attempt attempt = medium_.read(range.offset, {buffer.get(), range.length}, options_.patience);
    const Seconds took = Clock::now() - begun;
    slow = slow || is_slow(took, range.length);
    std::vector<Keeper::Part> parts;
    uint64_t at = range.offset;
    const auto keep_until = [&](uint64_t end) {
      if (end > at) parts.push_back({{at, end - at}, at - range.offset});
    };
    for (const ByteRange& bad : attempt.bad) {
      keep_until(bad.offset);
      at = bad.end();
    }
    keep_until(range.end());
    for (const Keeper::Part& part : parts) now_ += part.range.length;
    keeper_.keep(std::move(buffer), std::move(parts), slow);
    show();
    return attempt;
  }

  // Compared with what is usual here: a slow server is no failing area.
  bool is_slow(Seconds took, uint64_t length) {
    const double large = static_cast<double>(length) / static_cast<double>(kLarge);
    const bool slow = took > kSlow && took > kMuchLonger * usual_ * std::max(large, 0.1);
    const double weight = slow ? 0.02 : 0.1;
    if (length == kLarge) usual_ = usual_ * (1 - weight) + took * weight;
    return slow;
  }

  void wait_for_medium() {
    const Clock::time_point until =
        Clock::now() + std::chrono::duration_cast<Clock::duration>(options_.wait);
    const std::string_view before = std::exchange(progress_.stage, "The source is gone; waiting");
    keeper_.drain();
    image_.flush();
    while (!medium_.is_back()) {
      if (Clock::now() >= until) throw Gone{};
      nap(Clock::now() + 5 * kNap);
    }
    progress_.stage = before;
  }

  // Rests where that was asked for.
  void be_paced() {
    heed_stop();
    if (options_.most_per_second > 0) {
      const Seconds due(static_cast<double>(now_) / static_cast<double>(options_.most_per_second));
      nap(begun_ + paused_ + std::chrono::duration_cast<Clock::duration>(due));
    }
    if (options_.work.count() > 0 && Clock::now() - rested_ >= options_.work) {
      const std::string_view before = std::exchange(progress_.stage, "Pausing");
      const Clock::time_point from = Clock::now();
      nap(from + std::chrono::duration_cast<Clock::duration>(options_.pause));
      rested_ = Clock::now();
      paused_ += rested_ - from;
      progress_.stage = before;
    }
  }

  void nap(Clock::time_point until) {
    while (Clock::now() < until) {
      heed_stop();
      show();
      std::this_thread::sleep_for(std::min<Clock::duration>(kNap, until - Clock::now()));
    }
  }

  void heed_stop() const {
    if (options_.interrupts != nullptr && *options_.interrupts > 0) throw Stopped{};
  }

  void begin(std::string_view stage) {
    keeper_.drain();
    progress_.stage = stage;
  }

  void show() {
    if (Clock::now() - shown_ < 5 * kNap) return;
    shown_ = Clock::now();
    const ByteRange all{0, medium_.size()};
    progress_.read = progress_.failed = progress_.slow = progress_.left = 0;
    for (const Noted& noted : image_.in(all)) {
      const State state = noted.finding.state;
      (state == State::read     ? progress_.read
       : state == State::failed ? progress_.failed
                                : progress_.left) += noted.range.length;
      if (state == State::read && noted.finding.slow) progress_.slow += noted.range.length;
    }
    progress_.now = now_;
    progress_.seconds = Seconds(shown_ - begun_).count();
    options_.progress(progress_);
  }

  // The block of a grid of `size` bytes that begins at, or ends at, an end of [from, to).
  static ByteRange block_at(uint64_t from, uint64_t to, uint64_t size) {
    return {from, std::min(to - from, size - from % size)};
  }
  static ByteRange block_before(uint64_t from, uint64_t to, uint64_t size) {
    const uint64_t begin = std::max(from, (to - 1) / size * size);
    return {begin, to - begin};
  }

  // Calls `visit` with one block after the other; it says how many bytes behind it to leave out,
  // which are noted as stepped over.
  template <typename Visit>
  void each_block(const ByteRange& range, uint64_t size, bool backwards, Visit visit) {
    uint64_t from = range.offset;
    uint64_t to = range.end();
    while (from < to) {
      const ByteRange block = backwards ? block_before(from, to, size) : block_at(from, to, size);
      (backwards ? to : from) = backwards ? block.offset : block.end();
      const uint64_t step = std::min(visit(block), to - from);
      image_.note({backwards ? to - step : from, step}, {State::skipped});
      (backwards ? to : from) += backwards ? -step : step;
    }
  }

  template <typename Visit>
  void each_unit(const ByteRange& range, bool backwards, Visit visit) {
    each_block(range, unit_, backwards, [&](const ByteRange& unit) {
      visit(unit);
      return uint64_t{0};
    });
  }

  std::vector<ByteRange> whole_units(const std::vector<ByteRange>& wanted) const {
    const uint64_t unit = medium_.unit();
    const ByteRange all = overlap(options_.range, {0, medium_.size()});
    std::vector<ByteRange> whole;
    for (const ByteRange& range : wanted) {
      const uint64_t begin = range.offset / unit * unit;
      const uint64_t end = (range.end() + unit - 1) / unit * unit;
      const ByteRange inside = overlap({begin, end - begin}, all);
      if (inside.length > 0) whole.push_back(inside);
    }
    return whole;
  }

  static constexpr uint64_t kPhysical = 4096;  // bytes

  Medium& medium_;
  ImageCopy& image_;
  uint64_t unit_ = medium_.unit();  // bytes that are asked for by themselves
  // Of learn(): the physical sector that is looked at, and what came of those before it.
  uint64_t block_ = UINT64_MAX;
  unsigned tried_ = 0, failed_ = 0, whole_ = 0;
  bool in_part_ = false;
  const CopyOptions& options_;
  Keeper keeper_;
  CopyProgress progress_;
  uint64_t now_ = 0;  // bytes read by this run
  Seconds usual_{0};  // for a large piece
  Clock::time_point begun_ = Clock::now(), rested_ = begun_, shown_{};
  Clock::duration paused_{};
};

}  // namespace

CopyEnd copy_medium(Medium& medium, ImageCopy& image, const CopyOptions& options) {
  return Copier(medium, image, options).run();
}

}  // namespace undershelf
