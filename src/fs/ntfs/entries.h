// From what NTFS records to plain entries.
#pragma once

#include <vector>

#include "fs/ntfs/catalogue.h"
#include "fs/ntfs/lost_names.h"
#include "model/entry.h"

namespace undershelf::ntfs {

// Which folders are meant by references, and what of the volume is the file system's own.
class EntryMaker {
 public:
  // `most_bytes`: what the volume holds; sizes beyond it that only names tell are not believed.
  EntryMaker(const Catalogue& catalogue, uint64_t most_bytes)
      : catalogue_(catalogue), most_bytes_(most_bytes) {}

  // The entry of a record in use. Parents are taken as recorded: they need not be read yet.
  Entry live(const File& file);
  // The entry of a record that is free now; `known` is what else names it, or null.
  Entry deleted(const File& file, const LostNames::Known* known) const;
  // The entry of a file that no record tells of.
  Entry ghost(const Ghost& ghost) const;
  // A name from before a rename or a move.
  OtherName former(const FoundName& name) const;

 private:
  bool is_system_folder(uint64_t number) const;
  void set_names(Entry& entry, std::vector<FoundName> names, bool as_recorded) const;
  bool is_waiting(const FoundName& name) const {
    return waiting_folder_ != 0 && number_of(name.parent) == waiting_folder_;
  }
  void set_parent(std::optional<uint64_t>& parent, uint64_t reference, bool as_recorded) const;

  const Catalogue& catalogue_;
  uint64_t most_bytes_;
  std::vector<uint64_t> system_folders_ = {kExtend};  // numbers, sorted
  // Number of $Extend\$Deleted, where files that are deleted while open wait under other names; 0:
  // none was read.
  uint64_t waiting_folder_ = 0;
};

}  // namespace undershelf::ntfs
