// A bitmap of clusters in use, as NTFS, exFAT and HFS+ keep one.
#pragma once

#include "model/range.h"
#include "source/cache.h"

namespace undershelf {

enum class BitOrder {
  least_first,
  most_first
};  // which bit of a byte stands for the first cluster

// Read through a bounded cache. Not to be shared between threads.
class UseBitmap {
 public:
  // `heap` is what the bits stand for (bytes of the space), from the first on, a cluster of
  // `cluster_size` bytes each.
  UseBitmap(SourcePtr bits, const ByteRange& heap, uint64_t cluster_size, BitOrder order)
      : bytes_(bits->size()),
        cache_(std::move(bits)),
        heap_(heap),
        cluster_size_(cluster_size),
        order_(order) {}
  // See VolumeReader::next_used. Clusters behind the end of the bitmap, or whose bits cannot be
  // read, are not in use.
  ByteRange next_used(const ByteRange& within);

 private:
  // The first cluster from `from` on, before `end`, whose bit is `wanted`; `end` if there is none.
  uint64_t find(uint64_t from, uint64_t end, bool wanted);

  uint64_t bytes_;  // of the bitmap
  CachedReader cache_;
  ByteRange heap_;
  uint64_t cluster_size_;
  BitOrder order_;
};

}  // namespace undershelf
