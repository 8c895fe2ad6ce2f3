#include "sparse_source.h"

#include <algorithm>
#include <boost/endian/conversion.hpp>
#include <cstring>

namespace undershelf::fuzz {
namespace {

constexpr size_t kSector = 512;

void append32(std::vector<uint8_t>& to, uint32_t value) {
  to.resize(to.size() + 4);
  boost::endian::store_little_u32(to.data() + to.size() - 4, value);
}

}  // namespace

SparseSource::SparseSource(std::span<const uint8_t> input, uint64_t most_bytes) : size_(0) {
  if (input.size() < 4) return;
  size_ = std::min(most_bytes, uint64_t{boost::endian::load_little_u32(input.data())} * kSector);
  for (size_t at = 4; at + 4 + kSector <= input.size(); at += 4 + kSector) {
    sectors_[boost::endian::load_little_u32(input.data() + at)] = input.subspan(at + 4, kSector);
  }
}

ReadResult SparseSource::read(uint64_t offset, std::span<std::byte> out) const {
  if (!out.empty()) std::memset(out.data(), 0, out.size());  // a loop here would be instrumented
  ReadResult result;
  const uint64_t end =
      std::min(size_, offset + std::min<uint64_t>(out.size(), UINT64_MAX - offset));
  if (end < offset || end - offset < out.size()) {
    const uint64_t there = end < offset ? 0 : end - offset;
    add_bad(result, {{offset + there, out.size() - there}});
  }
  const auto first = static_cast<uint32_t>(std::min<uint64_t>(offset / kSector, UINT32_MAX));
  for (auto it = sectors_.lower_bound(first); it != sectors_.end(); ++it) {
    const uint64_t place = uint64_t{it->first} * kSector;
    if (place >= end) break;
    const uint64_t from = std::max(place, offset);
    const uint64_t to = std::min(place + kSector, end);
    if (from >= to) continue;
    std::memcpy(out.data() + (from - offset), it->second.data() + (from - place), to - from);
  }
  return result;
}

ReadResult RecordingSource::read(uint64_t offset, std::span<std::byte> out) const {
  if (!out.empty() && offset < size()) {
    const uint64_t end = std::min(size(), offset + out.size());
    const std::lock_guard lock(mutex_);
    for (uint64_t at = offset / kSector * kSector; at < end; at += kSector) {
      auto [it, isNew] = sectors_.try_emplace(static_cast<uint32_t>(at / kSector));
      if (!isNew) continue;
      it->second.resize(kSector);
      base_->read(at, std::as_writable_bytes(std::span(it->second)));
    }
  }
  return base_->read(offset, out);
}

std::vector<uint8_t> RecordingSource::input(size_t most) const {
  std::vector<uint8_t> bytes;
  append32(bytes, static_cast<uint32_t>(std::min<uint64_t>(size() / kSector, UINT32_MAX)));
  for (const auto& [number, sector] : sectors_) {
    const bool zero = std::ranges::all_of(sector, [](uint8_t b) { return b == 0; });
    if (zero) continue;
    if (most-- == 0) break;
    append32(bytes, number);
    bytes.insert(bytes.end(), sector.begin(), sector.end());
  }
  return bytes;
}

}  // namespace undershelf::fuzz
