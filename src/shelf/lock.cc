#include "shelf/lock.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "model/error.h"
#include "shelf/shelf.h"

namespace undershelf {
namespace {

// When the scan began that is running; empty if that cannot be told.
std::string running_since(const std::string& path) {
  try {
    const std::vector<ScanRecord> scans = Shelf::open_to_read(path).scans();
    if (!scans.empty()) return ", begun at " + scans.back().started;
  } catch (const std::exception&) {
    // It is just being made.
  }
  return {};
}

}  // namespace

ShelfLock::ShelfLock(const std::string& path)
    : path_(path), file_(::open(path.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0666)) {
  if (file_ < 0) {
    const int error = errno;
    const bool exists = ::access(path.c_str(), F_OK) == 0;
    throw Error(exists ? Failure::refused : Failure::unavailable,
                fmt::format("The shelf {} cannot be {}: {}. Choose a file in a folder that exists "
                            "and may be written to.",
                            path, exists ? "written to" : "made", std::strerror(error)));
  }
  if (::flock(file_, LOCK_EX | LOCK_NB) == 0) return;
  // This closes no descriptor of a database that is open: SQLite's locks are not ours.
  ::close(file_);
  throw Error(
      Failure::refused,
      fmt::format("Another scan is writing to the shelf {}{}. Wait until it ends, or choose "
                  "another name. Listing and exporting go on meanwhile.",
                  path, running_since(path)));
}

ShelfLock::~ShelfLock() { ::close(file_); }

void ShelfLock::drop_if_empty() {
  struct stat status {};
  if (::fstat(file_, &status) == 0 && status.st_size == 0) ::unlink(path_.c_str());
}

}  // namespace undershelf
