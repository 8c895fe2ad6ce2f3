#include "source/by_two.h"

#include <future>

namespace undershelf {

void look_by_two(const Source& source, std::span<const ByteRange> ranges, const LookAtPart& look) {
  Turns turns(source);
  std::atomic<size_t> next = 0;
  const auto work = [&] {
    std::vector<std::byte> bytes;
    for (;;) {
      std::unique_lock turn = turns.take();
      const size_t number = next++;
      if (number >= ranges.size()) return;
      bytes.resize(ranges[number].length);
      const ReadResult result = source.read(ranges[number].offset, bytes);
      turns.note(result.bad);
      if (turn) turn.unlock();
      look(number, bytes, result.ok());
    }
  };
  // Where no further thread is to be had, there is nothing left to do when it is waited for.
  std::future<void> other = std::async(work);
  work();
  other.get();
}

}  // namespace undershelf
