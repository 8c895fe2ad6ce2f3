// The shelf of a scan: a new one, or the one that the scan goes on with.
#pragma once

#include <memory>
#include <optional>
#include <string>

#include "scan/scan.h"
#include "shelf/lock.h"
#include "shelf/shelf.h"

namespace undershelf::cli {

// What the call asks of a shelf.
struct Wanted {
  std::string shelf_path, source_path;
  uint64_t skip = 0;
  bool replace = false;
  Depth depth = Depth::quick;
  Check check = Check::sample;
  bool check_living = false;  // which is not told of scans that were made before
  std::optional<ByteRange> range;
  std::optional<std::string> time_zone, code_page;
};

// A shelf with the right to write to it.
struct LockedShelf {
  std::unique_ptr<ShelfLock> lock;
  Shelf shelf;
};

// A new shelf, or the one of the same source that this scan goes on with. Throws Error (refused) if
// what is there is another's, no shelf, or has all that is wanted: then nothing is changed.
LockedShelf open_or_create(const Wanted& wanted, const Source& source);

}  // namespace undershelf::cli
