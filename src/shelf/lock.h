// Who may write to a shelf: one process at a time.
#pragma once

#include <string>

#include "source/files.h"

namespace undershelf {

// Holds the right to write to the shelf at `path`, until it is destroyed or its process dies. Makes
// an empty file if there is none; that is a shelf still to be made. To be held longer than any open
// Shelf on the same file.
class ShelfLock {
 public:
  // Throws Error (refused) if another process holds it, or the file cannot be made or written.
  explicit ShelfLock(const std::string& path);
  ShelfLock(const ShelfLock&) = delete;
  ShelfLock& operator=(const ShelfLock&) = delete;
  // Removes the file if it is still empty: nothing came of it.
  void drop_if_empty();

 private:
  std::string path_;
  Descriptor file_;
};

}  // namespace undershelf
