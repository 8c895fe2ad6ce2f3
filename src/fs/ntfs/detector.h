// Recognises pieces of NTFS volumes during the sweep.
#pragma once

#include "fs/detector.h"

namespace undershelf::ntfs {

// Kinds of traces, besides headers (boot sectors and their backups).
enum TraceKind : uint32_t {
  // FILE records of consecutive numbers. `number`: that of the first one, or kNoNumber; `other`:
  // bytes a record.
  kRecords = 1,
  // An index block of a folder. `number`: its VCN, as it says itself; `other`: the reference of the
  // folder that its first entry names, 0 if it has none.
  kIndexBlock = 2,
  // Pages of a change journal, 4 KiB each but for the last, that follow each other.
  kChangePages = 3,
  // Pages of a log ($LogFile) that follow each other.
  kLogPages = 4,
};
constexpr uint64_t kNoNumber = UINT64_MAX;  // before version 3.1 records do not say theirs

std::unique_ptr<Detector> make_detector();

// See FileSystem::can_be_trace.
bool can_be_trace(const Trace& trace);

}  // namespace undershelf::ntfs
