// Where the content of files and folders lies, as far as tables and entries tell.
#pragma once

#include <functional>
#include <vector>

#include "fs/fat/folder.h"
#include "fs/fat/table.h"
#include "model/entry.h"
#include "model/range.h"

namespace undershelf::fat {

class StreamMaker {
 public:
  // Bytes of the volume, and what is wrong there.
  using Report = std::function<void(const ByteRange&, std::string)>;

  // `geometry` and `table` must outlive it. `base`: byte of the source at which the volume starts.
  // `former`: the tables may be written over, one where the other is not.
  StreamMaker(const Geometry& geometry, Table& table, uint64_t base, bool former)
      : geometry_(geometry), table_(table), base_(base), former_(former) {}

  // Damage met from now on goes to `report`; counts begin anew.
  void begin(Report report) {
    report_ = std::move(report);
    chains_lost_ = 0;
  }

  // The stream of a file. Adds to the entry's evidence what is odd.
  Stream of_file(const FolderEntry& found, Entry& entry);
  // Whether content stands behind an entry in use that is odd: for a file, a chain just as long as
  // it is; for a folder, one that names itself.
  bool is_backed(const FolderEntry& found, const Source& window);
  // The clusters of a folder, at least the first one if that is known.
  Chain folder_chain(uint32_t first);
  // The first cluster of a deleted folder: `.` in it names it in full.
  uint32_t find_deleted_folder(const FolderEntry& found, const Source& window);

  void add_pieces(Stream& stream, const std::vector<ByteRange>& where) const;
  void count_lost_chain() { ++chains_lost_; }
  uint64_t chains_lost() const { return chains_lost_; }  // of living files and folders

 private:
  Chain best_chain(uint32_t first, uint64_t most, std::optional<uint64_t> wanted);
  void add_left_chain(Stream& stream, uint32_t first, uint64_t wanted);
  bool may_lack_high_half(const FolderEntry& found) const;
  void place_live(Stream& stream, Entry& entry, uint32_t first, uint64_t wanted);
  void report_invalid(Entry& entry, uint32_t first);

  const Geometry& geometry_;
  Table& table_;
  uint64_t base_;
  bool former_;
  Report report_;
  uint64_t chains_lost_ = 0;
};

}  // namespace undershelf::fat
