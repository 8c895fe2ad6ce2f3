#include "stream/stream_source.h"

#include <algorithm>

namespace undershelf {

ReadResult StreamSource::read(uint64_t offset, std::span<std::byte> out) const {
  const uint64_t there = offset < size() ? std::min<uint64_t>(out.size(), size() - offset) : 0;
  Losses lost = stream_.read(offset, out);
  for (const Loss& known : stream_.known_losses()) {
    const ByteRange here = overlap({known.offset, known.length}, {offset, there});
    if (here.length > 0) lost.push_back({here.offset, here.length, known.cause});
  }
  lost.push_back({offset + there, out.size() - there});
  std::ranges::sort(lost, {}, &Loss::offset);
  ReadResult result;
  for (const Loss& loss : lost) {
    const uint64_t begin = result.ok() ? offset : result.bad.back().end();
    const uint64_t from = std::max(loss.offset, begin);
    if (loss.end() > from) result.bad.push_back({from, loss.end() - from});
  }
  return result;
}

}  // namespace undershelf
