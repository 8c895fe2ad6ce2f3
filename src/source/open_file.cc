#include "source/open_file.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "model/error.h"

namespace undershelf {

OpenedFile open_file(const std::string& path) {
  const int descriptor = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NOCTTY | O_NONBLOCK);
  if (descriptor < 0) {
    throw Error(Failure::unavailable,
                fmt::format("Cannot open the source {}: {}. Check the path and the permissions.",
                            path, std::strerror(errno)));
  }
  struct stat status {};
  const bool known = ::fstat(descriptor, &status) == 0;
  uint64_t size = known ? static_cast<uint64_t>(status.st_size) : 0;
  int sector_size = 512;
  unsigned physical_size = 512;
  if (known && S_ISBLK(status.st_mode) &&
      (::ioctl(descriptor, BLKGETSIZE64, &size) != 0 ||
       ::ioctl(descriptor, BLKSSZGET, &sector_size) != 0)) {
    size = 0;
  }
  if (known && S_ISBLK(status.st_mode)) ::ioctl(descriptor, BLKPBSZGET, &physical_size);
  std::string why;
  if (!known) {
    why = fmt::format("The source {} cannot be examined: {}.", path, std::strerror(errno));
  } else if (S_ISDIR(status.st_mode)) {
    why = fmt::format("The source {} is a folder. Give an image file.", path);
  } else if (!S_ISREG(status.st_mode) && !S_ISBLK(status.st_mode)) {
    why = fmt::format("The source {} is no image file and no disk. Give one of these.", path);
  } else if (size == 0) {
    why = fmt::format("The source {} is empty. Check that the copy of the medium was completed.",
                      path);
  }
  if (!why.empty()) {
    ::close(descriptor);
    throw Error(Failure::unavailable, why);
  }
  OpenedFile opened{descriptor,
                    size,
                    static_cast<uint32_t>(sector_size),
                    physical_size,
                    S_ISBLK(status.st_mode),
                    nullptr,
                    std::make_shared<ProtectedSource>(status)};
  if (opened.is_device) opened.kept = std::make_shared<KeptReadOnly>(descriptor, path);
  return opened;
}

int open_direct(const std::string& path) {
  return ::open(path.c_str(), O_RDONLY | O_DIRECT | O_CLOEXEC | O_NOCTTY | O_NONBLOCK);
}

}  // namespace undershelf
