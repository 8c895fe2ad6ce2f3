#include "source/medium_source.h"

#include <algorithm>
#include <cstring>
#include <mutex>
#include <thread>

#include "source/refused.h"

namespace undershelf {
namespace {

constexpr uint64_t kBlock = 1 << 20;             // bytes asked for at once
constexpr Medium::Seconds kLimit(60);            // for an answer
constexpr Medium::Seconds kWait(30);             // for one that is gone
constexpr std::chrono::milliseconds kStep(500);  // between two looks whether it is back

bool waits_for(Medium& medium) {
  const auto until = std::chrono::steady_clock::now() + kWait;
  while (!medium.is_back()) {
    if (std::chrono::steady_clock::now() >= until) return false;
    std::this_thread::sleep_for(kStep);
  }
  return true;
}

// Tells of what is there, and calls `failed` with each range that is not. False if it is gone for
// good.
template <typename Failed>
bool ask(Medium& medium, const ByteRange& range, std::byte* bytes, const Fetched& told,
         Failed failed) {
  Attempt attempt = medium.read(range.offset, {bytes, range.length}, kLimit);
  while (attempt.gone) {
    if (!waits_for(medium)) return false;
    attempt = medium.read(range.offset, {bytes, range.length}, kLimit);
  }
  uint64_t at = range.offset;
  const auto tell_until = [&](uint64_t end) {
    if (end > at) told({at, end - at}, {bytes + (at - range.offset), end - at}, 0);
  };
  for (const ByteRange& bad : attempt.bad) {
    tell_until(bad.offset);
    at = bad.end();
    if (!failed(bad, attempt.error)) return false;
  }
  tell_until(range.end());
  return true;
}

class MediumSource : public Source {
 public:
  explicit MediumSource(std::unique_ptr<Medium> medium)
      : medium_(std::move(medium)), refused_(medium_->unit()) {}
  uint64_t refused() const override { return refused_.bytes(); }
  uint64_t size() const override { return medium_->size(); }
  uint32_t sector_size() const override { return medium_->sector_size(); }
  ReadResult read(uint64_t offset, std::span<std::byte> out) const override {
    ReadResult result;
    const std::lock_guard lock(mutex_);
    for (size_t done = 0; done < out.size();) {
      const Refused::Part part = refused_.first_part({offset + done, out.size() - done});
      const auto target = out.subspan(done, part.range.length);
      if (part.refused) {
        std::ranges::fill(target, std::byte{0});
        add_bad(result, {part.range});
      } else if (!reads_into(part.range) ||
                 !medium_->read(part.range.offset, target, kLimit).ok()) {
        fetch_into(part.range, target, result);
      }
      done += part.range.length;
    }
    return result;
  }

 private:
  void fetch_into(const ByteRange& wanted, std::span<std::byte> out, ReadResult& result) const {
    std::ranges::fill(out, std::byte{0});
    uint64_t at = wanted.offset;  // told of up to here
    const auto take = [&](const ByteRange& range, std::span<const std::byte> bytes, int error) {
      const ByteRange inside = overlap(range, wanted);
      if (error != 0) {
        refused_.note(range);
        if (inside.length > 0) add_bad(result, {inside});
      } else if (inside.length > 0) {
        std::memcpy(out.data() + (inside.offset - wanted.offset),
                    bytes.data() + (inside.offset - range.offset), inside.length);
      }
      at = std::max(at, inside.end());
    };
    const ByteRange there = overlap(wanted, {0, size()});
    if (there.length > 0) fetch(*medium_, there, take);
    if (at < wanted.end()) add_bad(result, {{at, wanted.end() - at}});
  }

  // Most reads are of whole units, and go well at once.
  bool reads_into(const ByteRange& wanted) const {
    const uint64_t unit = medium_->unit();
    return medium_->takes_any_memory() && wanted.length > 0 && wanted.offset % unit == 0 &&
           wanted.length % unit == 0 && wanted.end() <= medium_->size();
  }

  std::unique_ptr<Medium> medium_;
  mutable std::mutex mutex_;
  mutable Refused refused_;
};

}  // namespace

void fetch(Medium& medium, const ByteRange& range, const Fetched& told) {
  const uint64_t unit = medium.unit();
  const uint64_t begin = range.offset / unit * unit;
  const uint64_t end = std::min((range.end() + unit - 1) / unit * unit, medium.size());
  const AlignedBytes whole = aligned_bytes(std::min(kBlock, end - begin));
  const AlignedBytes single = aligned_bytes(unit);
  const auto by_units = [&](const ByteRange& failed, int error) {
    if (failed.length <= unit) {
      told(failed, {}, error);
      return true;
    }
    for (uint64_t at = failed.offset; at < failed.end(); at += unit) {
      const ByteRange one{at, std::min(unit, failed.end() - at)};
      const bool goes_on = ask(medium, one, single.get(), told, [&](const ByteRange& bad, int why) {
        told(bad, {}, why);
        return true;
      });
      if (!goes_on) return false;
    }
    return true;
  };
  for (uint64_t at = begin; at < end; at += kBlock) {
    if (!ask(medium, {at, std::min(kBlock, end - at)}, whole.get(), told, by_units)) return;
  }
}

SourcePtr source_over(std::unique_ptr<Medium> medium) {
  return std::make_shared<MediumSource>(std::move(medium));
}

}  // namespace undershelf
