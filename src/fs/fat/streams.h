// Where the content of files and folders lies, as far as tables and entries tell.
#pragma once

#include <vector>

#include "fs/chained/heap.h"
#include "fs/fat/folder.h"
#include "fs/fat/table.h"
#include "model/entry.h"

namespace undershelf::fat {

class StreamMaker {
 public:
  // The references must outlive it. `former`: the tables may be written over, one where the other
  // is not.
  StreamMaker(const Geometry& geometry, Table& table, chained::Heap& heap, bool former)
      : geometry_(geometry), table_(table), heap_(heap), former_(former) {}

  // The stream of a file. Adds to the entry's evidence what is odd.
  Stream of_file(const FolderEntry& found, Entry& entry);
  // Whether content stands behind an entry in use that is odd: for a file, a chain just as long as
  // it is; for a folder, one that names itself.
  bool is_backed(const FolderEntry& found);
  // The clusters of a folder, at least the first one if that is known.
  Chain folder_chain(uint32_t first);
  // The first cluster of a deleted folder: `.` in it names it in full.
  uint32_t find_deleted_folder(const FolderEntry& found);

 private:
  Chain best_chain(uint32_t first, uint64_t most, uint64_t wanted);
  std::vector<Chain> other_chains(uint32_t first, uint64_t most);
  int merit_of(const Chain& folder) const;
  void add_left_chain(Stream& stream, uint32_t first, uint64_t wanted);
  bool may_lack_high_half(const FolderEntry& found) const;
  bool begins_with_folder(uint32_t cluster) const;

  const Geometry& geometry_;
  Table& table_;
  chained::Heap& heap_;
  bool former_;
};

}  // namespace undershelf::fat
