#include "shelf/lock.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <filesystem>

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

// A shelf may be reached by a link; what belongs to it lies where it is.
std::string real_path(const std::string& path) {
  std::error_code error;
  const std::filesystem::path real = std::filesystem::canonical(path, error);
  return error ? path : real.string();
}

// SQLite makes these, or goes on with what is there. Throws Error (refused) if that is none of
// ours.
void require_own(const std::string& path) {
  if (::access(path.c_str(), F_OK) == 0) open_to_write(AT_FDCWD, path, Place::own);
}

}  // namespace

ShelfLock::ShelfLock(const std::string& path)
    : path_(real_path(path)), file_(open_to_write(AT_FDCWD, path_, Place::own)) {
  if (!file_.ok()) {
    const int error = errno;
    const bool exists = ::access(path.c_str(), F_OK) == 0;
    throw Error(Failure::refused,
                fmt::format("The shelf {} cannot be {}: {}. Choose a file in a folder that exists "
                            "and may be written to.",
                            path, exists ? "written to" : "made", std::strerror(error)));
  }
  for (const char* beside : {"-journal", "-wal", "-shm"}) require_own(path_ + beside);
  // What closes this then is no descriptor of a database that is open: SQLite's locks are not ours.
  if (::flock(file_.get(), LOCK_EX | LOCK_NB) == 0) return;
  throw Error(
      Failure::refused,
      fmt::format("Another scan is writing to the shelf {}{}. Wait until it ends, or choose "
                  "another name. Listing and exporting go on meanwhile.",
                  path, running_since(path)));
}

void ShelfLock::drop_if_empty() {
  struct stat status {};
  if (::fstat(file_.get(), &status) == 0 && status.st_size == 0) ::unlink(path_.c_str());
}

}  // namespace undershelf
