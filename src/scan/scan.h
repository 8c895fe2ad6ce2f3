// A scan: reads the volumes of a source into a shelf and runs the passes over it.
#pragma once

#include <functional>
#include <string>

#include "fs/fs.h"
#include "shelf/shelf.h"

namespace undershelf {

enum class Check { none, sample };

struct ScanOptions {
  ReadOptions read;
  Check check = Check::sample;
  // Told what is being done now, for showing progress.
  std::function<void(const std::string&)> progress = [](const std::string&) {};
};

struct ScanResult {
  size_t volumes = 0;
  uint64_t damage = 0;           // places noted
  bool source_is_short = false;  // a volume goes on behind the end of the source
};

// Reads every volume found on `source` and stores what they hold. Repeatable: what the shelf holds
// already keeps its id.
ScanResult scan_quickly(Shelf& shelf, const SourcePtr& source, const ScanOptions& options);

}  // namespace undershelf
