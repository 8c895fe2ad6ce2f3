// Sorts what names files outside of records, and that nothing in use holds: what the present
// volumes left there, and what former ones did.
#pragma once

#include <map>
#include <vector>

#include "fs/assembly/scene.h"
#include "fs/ntfs/found_names.h"
#include "fs/ntfs/geometry.h"

namespace undershelf::ntfs {

class FreeNames {
 public:
  explicit FreeNames(const Scene& scene);

  // Further entries of present volumes: what pages and blocks in their free space name.
  std::vector<Assembled> of_present();

  struct Block {
    uint64_t vcn = 0;  // as it says itself
    FoundNames names;
  };
  // Former volumes' index blocks, by the number of the folder; 0: not told.
  const std::map<uint64_t, std::vector<Block>>& blocks() const { return blocks_; }
  struct Pages {
    FoundNames names;
    uint64_t records = 0;  // one more than the highest number of a record they name
  };
  // Former volumes' pages of change journals and logs, by place.
  const std::vector<Pages>& pages() const { return pages_; }
  // Blocks and pages that were found, but are more than can be read.
  size_t left_out() const { return left_out_; }

 private:
  // What tells a present volume's leavings from those of before it.
  struct Present {
    ByteRange range;  // of the source
    Geometry geometry;
    uint64_t records = 0;        // of its $MFT
    std::optional<Time> oldest;  // when the first of its files was made
    std::vector<FoundNames> names;
  };
  void note(const Scene::Current& current);
  void sort(FoundNames names, uint64_t vcn);
  std::vector<FoundNames> free_parts(const Trace& trace) const;

  const Scene& scene_;
  std::vector<Present> present_;
  std::map<uint64_t, std::vector<Block>> blocks_;
  std::vector<Pages> pages_;
  size_t left_out_ = 0;
};

}  // namespace undershelf::ntfs
