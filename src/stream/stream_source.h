// A stream as a source: a disk image in a file is read as the disk it is of.
#pragma once

#include <utility>

#include "stream/stream.h"

namespace undershelf {

class StreamSource : public Source {
 public:
  // `sector_size` in bytes: of what the stream lies on.
  StreamSource(StreamReader stream, uint32_t sector_size)
      : stream_(std::move(stream)), sector_size_(sector_size), gaps_(stream_.gaps()) {}
  uint64_t size() const override { return stream_.size(); }
  uint32_t sector_size() const override { return sector_size_; }
  std::span<const BadRange> gaps() const override { return gaps_; }
  ReadResult read(uint64_t offset, std::span<std::byte> out) const override;

 private:
  StreamReader stream_;
  uint32_t sector_size_;
  std::vector<BadRange> gaps_;
};

}  // namespace undershelf
