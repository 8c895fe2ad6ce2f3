// How a finished archive comes to its place. For the exporting folder's own use.
#pragma once

#include <string>

#include "exporting/target_file.h"

namespace undershelf {

constexpr const char* kNoneWasLeft = "The archive could not be completed, so none was left.";

// An archive on its way to `path`, where it is seen once it is whole: a file without a name, or,
// where the file system has no such files, `PATH.part`. It goes away unless it is placed.
class UnplacedArchive {
 public:
  // Throws Error (refused) if `PATH.part` is needed and taken; TargetFailed.
  explicit UnplacedArchive(const std::string& path);
  ~UnplacedArchive();
  UnplacedArchive(const UnplacedArchive&) = delete;
  UnplacedArchive& operator=(const UnplacedArchive&) = delete;

  const Descriptor& file() const { return file_; }
  // Once all of it is on the medium. Nothing may be at its path. Throws TargetFailed.
  void place();

 private:
  const std::string path_, part_;
  Descriptor folder_;
  Descriptor file_;
  bool has_name_ = false;  // PATH.part is ours
};

}  // namespace undershelf
