#include "exporting/place_archive.h"

#include <fcntl.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <filesystem>

namespace undershelf {

Descriptor create_part(const std::string& part) {
  ::unlink(part.c_str());
  Descriptor file(::open(part.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0666));
  if (!file.ok()) throw TargetFailed{errno};
  return file;
}

void move_archive(const std::string& part, const std::string& path) {
  if (::renameat2(AT_FDCWD, part.c_str(), AT_FDCWD, path.c_str(), RENAME_NOREPLACE) != 0) {
    // Not every target can be told not to replace.
    if (errno != EINVAL && errno != ENOSYS) throw TargetFailed{errno};
    if (::access(path.c_str(), F_OK) == 0) throw TargetFailed{EEXIST};
    if (::rename(part.c_str(), path.c_str()) != 0) throw TargetFailed{errno};
  }
  const std::filesystem::path folder = std::filesystem::path(path).parent_path();
  const Descriptor there(
      ::open(folder.empty() ? "." : folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
  if (there.ok()) ::fsync(there.get());
}

}  // namespace undershelf
