// Where the content of files and folders lies, as far as the FAT and entry sets tell.
#pragma once

#include <functional>
#include <vector>

#include "fs/chained/heap.h"
#include "fs/exfat/folder.h"
#include "fs/exfat/geometry.h"
#include "model/entry.h"
#include "source/cache.h"

namespace undershelf::exfat {

class StreamMaker {
 public:
  // The references must outlive it. `is_used`: whether any of a range (bytes of the volume) is in
  // use by the allocation bitmap.
  StreamMaker(const Geometry& geometry, chained::Heap& heap,
              std::function<bool(const VolumeRange&)> is_used)
      : geometry_(geometry), heap_(heap), is_used_(std::move(is_used)), table_(heap.volume()) {}

  // The stream of a file. Adds to the entry's evidence what is odd.
  Stream of_file(const EntrySet& set, Entry& entry);
  // The chain from `first` on, of at most `most` clusters (specification, section 4).
  Chain chain(uint32_t first, uint64_t most);
  // Some drivers leave the chain of a deleted file in place: it holds as long as all of it is free.
  bool is_free(const Chain& left) const;
  // Whether an entry said of several clusters that they follow each other (NoFatChain).
  bool flag_is_used() const { return flag_is_used_; }
  void forget_flag() { flag_is_used_ = false; }

 private:
  const Geometry& geometry_;
  chained::Heap& heap_;
  std::function<bool(const VolumeRange&)> is_used_;
  CachedReader table_;
  bool flag_is_used_ = false;
};

}  // namespace undershelf::exfat
