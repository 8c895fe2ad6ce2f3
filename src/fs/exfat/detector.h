// Recognises pieces of exFAT volumes during the sweep.
#pragma once

#include "fs/detector.h"

namespace undershelf::exfat {

// Kinds of traces, besides headers (main and backup boot sectors).
enum TraceKind : uint32_t {
  // Sectors that follow each other and hold entry sets whose checksums hold. `number`: 1 if a set
  // begins with the first byte, as at the beginning of a folder.
  kSets = 1,
  // A sector of a root folder: it names the allocation bitmap and the up-case table. `number` and
  // `other`: their first clusters.
  kRootEntries = 2,
  // A sector with which an up-case table begins (section 7.2.5: units that stay as they are).
  kUpcase = 3,
  // A sector with which a FAT begins (section 4.1: media type, then set bits).
  kFat = 4,
};

std::unique_ptr<Detector> make_detector();

// See FileSystem::can_be_trace.
bool can_be_trace(const Trace& trace);

}  // namespace undershelf::exfat
