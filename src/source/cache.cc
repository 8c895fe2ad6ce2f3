#include "source/cache.h"

#include <algorithm>
#include <cstring>

namespace undershelf {
namespace {

constexpr uint64_t kBlockSize = 65536;

}  // namespace

CachedReader::CachedReader(SourcePtr source, size_t slots)
    : source_(std::move(source)), slots_(slots) {}

const CachedReader::Slot& CachedReader::load(uint64_t block) {
  Slot& slot = slots_[block % slots_.size()];
  if (slot.block != block) {
    slot.block = UINT64_MAX;  // should the read be broken off
    slot.bytes.resize(kBlockSize);
    slot.bad = source_->read(block * kBlockSize, slot.bytes).bad;
    slot.block = block;
  }
  return slot;
}

bool CachedReader::read(uint64_t offset, std::span<std::byte> out) {
  const ByteRange wanted{offset, out.size()};
  bool complete = true;
  size_t done = 0;
  while (done < out.size()) {
    const uint64_t at = offset + done;
    const Slot& slot = load(at / kBlockSize);
    const uint64_t within = at % kBlockSize;
    const size_t step = std::min<uint64_t>(out.size() - done, kBlockSize - within);
    std::memcpy(out.data() + done, slot.bytes.data() + within, step);
    for (const ByteRange& bad : slot.bad) complete = complete && overlap(bad, wanted).length == 0;
    done += step;
  }
  return complete;
}

}  // namespace undershelf
