// A scan: reads the volumes of a source into a shelf and runs the passes over it.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "checking/check_pass.h"
#include "fs/fs.h"
#include "model/budget.h"
#include "scan/check.h"
#include "scan/survey.h"
#include "shelf/shelf.h"
#include "shelf/writer.h"

namespace undershelf {

enum class Depth { quick, deep };

// How far a sweep is.
struct SweepProgress {
  ByteRange range;        // of the source, that is to be looked at
  uint64_t begun_at = 0;  // where this run of it began: byte of the source
  uint64_t position = 0;  // byte of the source
  std::vector<std::pair<std::string, uint64_t>> found;  // pieces of metadata, by file system
};

struct ScanOptions {
  ReadOptions read;
  Depth depth = Depth::quick;
  Check check = Check::sample;
  bool carve = true;  // with Depth::deep and Check::full, look for files by their content alone
  bool carve_unverified = false;  // such files, too, that are not sound to their end
  // Types of files (content/types.h) that are looked at to their end, and looked for by content;
  // empty: all.
  std::vector<std::string> kinds;
  bool check_living = false;  // with Check::full, living files too
  NameOther name_other = [](const ByteRange&) { return std::string(); };
  std::optional<ByteRange> range;    // of the source, to which a deep scan keeps; else all of it
  std::vector<std::string> systems;  // names in file_systems() that a deep scan looks for; or all
  // Told what is being done now, for showing progress.
  std::function<void(const std::string&)> progress = [](const std::string&) {};
  // Told how many files of the volume that is read were found.
  std::function<void(const FilesByType&)> found = [](const FilesByType&) {};
  std::function<void(const checking::CheckProgress&)> checking =
      [](const checking::CheckProgress&) {};
  std::function<void(const SweepProgress&)> sweeping = [](const SweepProgress&) {};
  // What reading one volume may cost; if not given, in proportion to the source.
  std::optional<Budget::Limits> most;
  // Asked once, a scan stops in order: what was found so far is put together. Asked again while
  // that goes on, it leaves that too. May be null.
  const Interrupts* interrupts = nullptr;
};

struct ScanResult {
  size_t volumes = 0;
  uint64_t damage = 0;           // places noted
  bool source_is_short = false;  // a volume goes on behind the end of the source
  bool stopped = false;          // before it was finished
  bool unsettled = false;        // what was found is not put together, as that was stopped
  bool unchecked = false;        // some files were not looked at to their end, as that was stopped
  bool incomplete = false;       // a volume could not be read to its end; its damage says why
  // Of the sweep, bytes of the source; nothing if none was begun.
  std::optional<uint64_t> position;
  bool has_log = false;            // another call reads the shelf: its log stays beside it for now
  uint64_t left_out = 0;           // traces beyond what is kept
  uint64_t carved = 0;             // files known by their content alone
  uint64_t joined = 0;             // lost files whose content was found without a name
  std::vector<std::string> notes;  // on how the source is divided
};

// Reads every volume found on `source` and stores what they hold; with Depth::deep also looks at
// the whole source for what is left of others. Repeatable: what the shelf holds already keeps its
// id, and a sweep that was stopped goes on. Throws Error (refused) if a sweep of another range, or
// for other systems, was begun.
ScanResult scan(Shelf& shelf, const SourcePtr& source, const ScanOptions& options);

}  // namespace undershelf
