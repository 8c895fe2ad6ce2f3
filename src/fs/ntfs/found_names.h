// What names files outside of records and folders' own streams: index blocks, pages of change
// journals and of logs, where a sweep found them.
#pragma once

#include <functional>
#include <vector>

#include "fs/ntfs/index.h"
#include "model/range.h"
#include "source/source.h"

namespace undershelf::ntfs {

struct FoundNames {
  enum class Kind {
    index_block,  // one block of a folder's index
    changes,      // a page of a change journal
    log,          // pages of a log that follow each other
  };
  Kind kind = Kind::index_block;
  ByteRange range;      // of the source
  uint64_t folder = 0;  // of an index block: the reference its first entry gives; 0: none
  bool current = true;  // of an index block: its entries were in use when the volume last was
  bool only = false;    // no other volume can be the one it belongs to
  bool sure = false;    // nothing that it names speaks against that
};

// Tells what is named there. `copied`: as for read_log, likewise `record_size` (bytes).
void read_names(const SourcePtr& source, const FoundNames& names, size_t record_size,
                const Sight& sight, const std::function<void(const Record&)>& copied);

}  // namespace undershelf::ntfs
