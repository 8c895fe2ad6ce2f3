// Recognises pieces of FAT volumes during the sweep.
#pragma once

#include "fs/detector.h"

namespace undershelf::fat {

// Kinds of traces, besides headers (boot sectors and backups of FAT32's).
enum TraceKind : uint32_t {
  // A sector with which a folder begins. `number`: its own first cluster, as `.` names it; `other`:
  // its parent's, as `..` does. High halves included, which only FAT32 has.
  kFolderStart = 1,
  // Sectors that follow each other and hold entries, but not the beginning of a folder.
  kFolderEntries = 2,
  // Sectors of a file allocation table that hold long chains. `number`: the byte of the source at
  // which the table would begin; `other`: bits an entry, 16 or 32.
  kTable = 3,
};

std::unique_ptr<Detector> make_detector();

// See FileSystem::can_be_trace.
bool can_be_trace(const Trace& trace);

}  // namespace undershelf::fat
