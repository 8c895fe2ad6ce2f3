#include "exporting/place_archive.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <filesystem>

#include "model/error.h"

namespace undershelf {

UnplacedArchive::UnplacedArchive(const std::string& path)
    : path_(std::filesystem::absolute(path).string()),
      part_(path_ + ".part"),
      folder_(::open(std::filesystem::path(path_).parent_path().c_str(),
                     O_RDONLY | O_DIRECTORY | O_CLOEXEC)),
      file_(-1) {
  if (!folder_.ok()) throw TargetFailed{errno};
  file_ = open_nameless(folder_.get());
  if (file_.ok()) return;
  file_ = open_to_write(AT_FDCWD, part_, Place::empty);
  if (!file_.ok() && errno == EEXIST) {
    throw Error(Failure::refused,
                fmt::format("{} is there: of an export that was killed, or yours. Nothing is "
                            "overwritten: remove it, or choose another name for the archive.",
                            part_));
  }
  if (!file_.ok()) throw TargetFailed{errno};
  has_name_ = true;
}

UnplacedArchive::~UnplacedArchive() {
  if (has_name_) ::unlink(part_.c_str());
}

void UnplacedArchive::place() {
  if (!has_name_) {
    if (!name_file(file_, AT_FDCWD, path_)) throw TargetFailed{errno};
  } else if (::renameat2(AT_FDCWD, part_.c_str(), AT_FDCWD, path_.c_str(), RENAME_NOREPLACE) != 0) {
    // Not every target can be told not to replace.
    if (errno != EINVAL && errno != ENOSYS) throw TargetFailed{errno};
    if (::access(path_.c_str(), F_OK) == 0) throw TargetFailed{EEXIST};
    if (::rename(part_.c_str(), path_.c_str()) != 0) throw TargetFailed{errno};
  }
  has_name_ = false;
  ::fsync(folder_.get());
}

}  // namespace undershelf
