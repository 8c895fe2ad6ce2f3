// Writes what was selected into a bag (RFC 8493): a folder, or an archive.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "access/written_paths.h"
#include "exporting/archive_writer.h"
#include "exporting/bag_sink.h"
#include "model/budget.h"
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
  // Where the bag is made: a folder that must not exist, or be empty; or an archive, of this form.
  std::string to;
  std::optional<ArchiveForm> archive;
  FolderLayout layout = FolderLayout::tree;
  std::string described;        // the selection and these options, as bag-info.txt tells them
  std::string shelf_path;       // likewise
  bool dry_run = false;         // only says what would be written, by what the shelf knows
  bool unique = false;          // equal content once; the other names are links where that can be
  bool even_gone = false;       // entries rated gone as well
  bool original_paths = false;  // out of trash folders, to where they were
  Forks forks = Forks::in_double;
  bool resume = false;                     // go on with an export that was interrupted
  bool read_back = false;                  // read each file from the target again, and compare
  const Interrupts* interrupts = nullptr;  // asked once, it ends in order
  // Told the bytes written so far and the bytes there are in all.
  std::function<void(uint64_t, uint64_t)> progress = [](uint64_t, uint64_t) {};
};

// The account of an export: all that was selected is in one of the sums below it.
struct ExportResult {
  FileSum selected;
  FileSum full;          // written, with every byte
  FileSum with_gaps;     // written, with some bytes missing
  FileSum changed;       // written, and not what the scan read: the source gives other bytes now
  FileSum gone;          // left out, as nothing of their content is left
  FileSum too_large;     // left out, as the target holds no such files
  FileSum failed;        // left out: could not be written
  FileSum not_reached;   // left out: it was stopped, or the target failed, before
  uint64_t kept = 0;     // of those written: what an earlier export had written, and is right
  uint64_t renamed = 0;  // files whose name had to differ from the true one
  std::vector<std::string> renames;   // of a dry run: these
  std::vector<std::string> failures;  // one sentence each
  uint64_t room = 0, free = 0;        // bytes that the target needs for it, and has
  bool stopped = false;
};

// Throws Error: refused if the directory is not empty, too small, or holds another export;
// incomplete if nothing is there to be written. A target that fails midway ends the export, and the
// result says so.
ExportResult export_bag(const Shelf& shelf, const SourcePtr& source, Selection selection,
                        const ExportOptions& options);

}  // namespace undershelf
