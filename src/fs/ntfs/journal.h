// The change journal ($Extend/$UsnJrnl:$J) and the log ($LogFile), as far as they name files.
#pragma once

#include "fs/ntfs/index.h"
#include "source/source.h"

namespace undershelf::ntfs {

// Change records of versions 2 and 3 ([MS-FSCC] 2.4) in the allocated parts of `journal`: whole
// pages of 4 KiB; rubbish between them costs the rest of its page. `parts`: ranges of the stream to
// read.
void read_change_journal(const Source& journal, const std::vector<ByteRange>& parts,
                         const Sight& sight);

// Old index entries inside the pages of the log: what was put into folders and taken out of them.
void read_log(const Source& log, const Sight& sight);

}  // namespace undershelf::ntfs
