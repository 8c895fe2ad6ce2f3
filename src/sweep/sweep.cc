#include "sweep/sweep.h"

#include <algorithm>
#include <cassert>
#include <utility>

#include "sweep/lookers.h"

namespace undershelf {
namespace {

using Clock = std::chrono::steady_clock;

constexpr size_t kTracesAtOnce = 4'000;  // found since the last checkpoint

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
  assert(kept <= SweepPlan::kBlock);
  const uint64_t begin = std::min(range.offset, source.size()) / kSweepStep * kSweepStep;
  const uint64_t end = std::min(range.end(), source.size());
  const SweepPlan plan{{begin, end - begin}, std::min(end + kept, source.size()), kept};
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
