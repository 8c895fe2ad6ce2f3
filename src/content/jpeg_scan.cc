#include "content/jpeg_scan.h"

#include <algorithm>
#include <deque>

#include "content/jpeg_decoder.h"

namespace undershelf::content {
namespace {

struct Crossing {
  uint64_t boundary = 0;  // byte
  JpegDecoder before;
};

// Whether what lies there has nothing of entropy-coded data: no byte of it is above 127, as in text
// and in what is blank. Decoding would go on in that for long.
bool is_plain(Bytes& bytes, uint64_t at) {
  constexpr size_t kEnough = 1024;  // bytes
  const auto there = bytes.at(at, kEnough);
  return there.size() == kEnough &&
         std::ranges::none_of(there, [](std::byte b) { return b > std::byte{0x7F}; });
}

}  // namespace

std::optional<JpegCut> find_jpeg_cut(Bytes& bytes, uint64_t cluster, uint64_t after,
                                     uint64_t most) {
  // Most notice soon that they read what is another's. Of those that do not, short gaps are sought.
  constexpr size_t kMostCrossings = 32, kNear = 6;
  constexpr uint64_t kShortGap = 128;           // clusters
  constexpr uint64_t kMostDecoded = 256 << 20;  // bytes, in all ways that are tried: seconds
  JpegDecoder decoder(bytes);
  if (!decoder.begin()) return std::nullopt;
  std::deque<Crossing> crossings;
  decoder.run(cluster, UINT64_MAX, [&](uint64_t boundary, JpegDecoder&& before) {
    if (boundary <= after) return;
    crossings.push_back({boundary, std::move(before)});
    if (crossings.size() > kMostCrossings) crossings.pop_front();
  });
  if (decoder.state() != JpegDecoder::State::failed) return std::nullopt;
  const uint64_t clearly = 3 * cluster;
  std::optional<JpegCut> best;
  uint64_t decoded = 0;
  uint64_t furthest = decoder.at() + clearly;
  const auto nothing = [](uint64_t, JpegDecoder&&) {};
  for (auto crossing = crossings.rbegin(); crossing != crossings.rend(); ++crossing) {
    const bool near = static_cast<size_t>(crossing - crossings.rbegin()) < kNear;
    const uint64_t longest = (near ? most : std::min(most, kShortGap)) * cluster;
    for (uint64_t gap = cluster; gap <= longest; gap += cluster) {
      if (crossing->boundary + gap >= bytes.size() || decoded > kMostDecoded) break;
      if (is_plain(bytes, crossing->boundary + gap)) continue;
      uint64_t reached = 0;
      if (!crossing->before.fails_soon(crossing->boundary, gap, reached)) {
        JpegDecoder trial = crossing->before;
        trial.cut(crossing->boundary, gap);
        trial.run(cluster, UINT64_MAX, nothing);
        if (trial.state() == JpegDecoder::State::ended) return JpegCut{crossing->boundary, gap};
        reached = trial.at();
      }
      decoded += reached - std::min(reached, crossing->boundary);
      if (reached > furthest) {
        furthest = reached;
        best = {crossing->boundary, gap};
      }
    }
  }
  return best;
}

}  // namespace undershelf::content
