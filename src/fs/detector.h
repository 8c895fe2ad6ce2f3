// What the sweep asks of each file system: to recognise pieces of its metadata in raw blocks.
#pragma once

#include <algorithm>
#include <bit>
#include <cstddef>
#include <cstdint>
#include <memory>
#include <span>
#include <vector>

#include "model/trace.h"

namespace undershelf {

// A part of the source under the sweep.
struct SweepBlock {
  uint64_t offset = 0;               // byte of the source of the first byte; a multiple of 512
  std::span<const std::byte> bytes;  // what is to be looked at, and what follows it
  size_t own = 0;                    // bytes in which pieces to be found begin
  size_t in_front = 0;  // bytes in memory right before the first one: those of the source there

  // The last bytes before one of them: at most kMostBefore, fewer where no more are known.
  static constexpr size_t kMostBefore = 2048;
  std::span<const std::byte> before(size_t at) const {
    const size_t length = std::min(at + in_front, kMostBefore);
    return {bytes.data() + at - length, length};
  }

  // Visits those of the own sectors that are all there of whose bytes `may_be` is true: where each
  // begins in `bytes`, and its bytes. `may_be` is asked of all: it should be true of few, and told
  // without a branch, as which way that goes would depend on the bytes. `further`: a byte of a
  // sector that it looks at besides the first ones.
  template <size_t further = 0, typename MayBe, typename Visit>
  void each_sector(MayBe may_be, Visit visit) const {
    constexpr size_t kGroup = 8 * kSweepStep;  // bytes
    const auto* const sectors = reinterpret_cast<const unsigned char*>(bytes.data());
    const size_t end = std::min(own, bytes.size()) / kSweepStep * kSweepStep;
    size_t group = 0;
    for (; group + 2 * kGroup <= end; group += kGroup) {
      unsigned chosen = 0;
#pragma GCC unroll 8
      for (size_t i = 0; i < kGroup; i += kSweepStep) {
        const unsigned char* sector = sectors + group + i;
        __builtin_prefetch(sector + kGroup);
        if constexpr (further != 0) __builtin_prefetch(sector + kGroup + further);
        chosen |= unsigned{may_be(sector)} << (i / kSweepStep);
      }
      for (; chosen != 0; chosen &= chosen - 1) {
        const size_t at = group + std::countr_zero(chosen) * kSweepStep;
        visit(at, sectors + at);
      }
    }
    for (; group < end; group += kSweepStep) {
      if (may_be(sectors + group)) visit(group, sectors + group);
    }
  }
};

// Looks at every block of a source once. Rejects an ordinary block by a few compared bytes a step,
// and allocates only for what it finds.
class Detector {
 public:
  virtual ~Detector() = default;
  // How much of what follows a place must be there to judge it: bytes.
  virtual size_t reach() const = 0;
  // Appends what begins in the block's own bytes (blocks of zeros are not shown at all), at
  // multiples of 512 bytes of the source, in order, each by itself. May be called from several
  // threads, with blocks in any order.
  virtual void look(const SweepBlock& block, std::vector<Trace>& found) const = 0;
  // Adds a trace to those before it, or joins it to the last one that it goes on with. Called in
  // order, from one thread.
  virtual void keep(const Trace& trace, std::vector<Trace>& kept) { kept.push_back(trace); }
  // Whether it may have said that of a place, where that is no header. A shelf may come from
  // anybody.
  virtual bool can_have_found(const Trace& trace) const = 0;
};

using Detectors = std::vector<std::unique_ptr<Detector>>;

}  // namespace undershelf
