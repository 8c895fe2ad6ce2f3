// Writes what was selected into a bag (RFC 8493).
#pragma once

#include <atomic>
#include <cstdint>
#include <functional>
#include <string>

#include "shelf/selection.h"
#include "source/source.h"

namespace undershelf {

// How resource forks and other secondary streams are written.
enum class Forks {
  in_double,  // resource forks as AppleDouble beside the file, other streams as files of their own
  plain,      // all as files of their own
  skip,       // not at all
};

struct ExportOptions {
  std::string directory;        // where the bag is made; must not exist, or be empty
  bool even_gone = false;       // entries rated gone as well
  bool original_paths = false;  // out of trash folders, to where they were
  Forks forks = Forks::in_double;
  bool resume = false;                      // go on with an export that was interrupted
  bool read_back = false;                   // read each file from the target again, and compare
  const std::atomic<bool>* stop = nullptr;  // set from a signal handler: end in order
  // Told the bytes written so far and the bytes there are in all.
  std::function<void(uint64_t, uint64_t)> progress = [](uint64_t, uint64_t) {};
};

struct ExportResult {
  uint64_t files = 0;
  uint64_t bytes = 0;
  uint64_t kept = 0;  // of the files: those an earlier export had written, and that are right
  uint64_t gone_left_out = 0;
  uint64_t with_holes = 0;          // files written with some bytes missing
  uint64_t renamed = 0;             // files whose name or path had to differ from the true one
  std::vector<std::string> failed;  // one sentence each
  bool stopped = false;
};

// Throws Error (refused) if the directory is not empty, too small, or on the source. A target
// that fails midway ends the export, and the result says so.
ExportResult export_bag(const Shelf& shelf, const SourcePtr& source, Selection selection,
                        const ExportOptions& options);

}  // namespace undershelf
