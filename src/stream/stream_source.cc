#include "stream/stream_source.h"

#include <algorithm>

namespace undershelf {

ReadResult StreamSource::read(uint64_t offset, std::span<std::byte> out) const {
  const uint64_t there = offset < size() ? std::min<uint64_t>(out.size(), size() - offset) : 0;
  Losses lost = stream_.read(offset, out);
  const Losses& known = stream_.known_losses();
  for (auto loss =
           std::ranges::partition_point(known, [&](const Loss& l) { return l.end() <= offset; });
       loss != known.end() && loss->offset < offset + there; ++loss) {
    const ByteRange here = overlap({loss->offset, loss->length}, {offset, there});
    lost.push_back({here.offset, here.length, loss->cause});
  }
  lost.push_back({offset + there, out.size() - there});
  std::ranges::sort(lost, {}, &Loss::offset);
  ReadResult result;
  for (const Loss& loss : lost) {
    const uint64_t begin = result.ok() ? offset : result.bad.back().end();
    const uint64_t from = std::max(loss.offset, begin);
    const bool unread = loss.cause == Loss::Cause::unread;
    if (loss.end() > from) result.bad.push_back({{from, loss.end() - from}, unread});
  }
  return result;
}

}  // namespace undershelf
