// The change journal ($Extend/$UsnJrnl:$J) and the log ($LogFile), as far as they name files.
#pragma once

#include "fs/ntfs/index.h"
#include "source/source.h"

namespace undershelf::ntfs {

constexpr size_t kPage = 4096;  // bytes, of change journals and of logs

// Change records of versions 2 and 3 ([MS-FSCC] 2.4) in the allocated parts of `journal`: whole
// pages of 4 KiB; rubbish between them costs the rest of its page. `parts`: ranges of the stream to
// read.
void read_change_journal(const Source& journal, const std::vector<ByteRange>& parts,
                         const Sight& sight);

// How many bytes at the beginning of a page are change records, each with all that belongs to one,
// rounded up to 512; 0 if it does not begin so.
size_t length_of_changes(std::span<const std::byte> page);

// Inside the pages of the log: old index entries, as they were put into folders and taken out of
// them, and copies of whole records, as they were made. `copied` gets records of `record_size`
// bytes, which are gone after the call.
void read_log(const Source& log, size_t record_size, const Sight& sight,
              const std::function<void(const Record&)>& copied);

}  // namespace undershelf::ntfs
