// Files on an export's target, written so that what failed is known. For the exporting folder's own
// use.
#pragma once

#include <sys/stat.h>
#include <unistd.h>

#include <cstddef>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "model/time.h"
#include "source/hash.h"

namespace undershelf {

// A file descriptor that closes itself.
class Descriptor {
 public:
  explicit Descriptor(int fd) : fd_(fd) {}
  ~Descriptor() {
    if (fd_ >= 0) ::close(fd_);
  }
  Descriptor(const Descriptor&) = delete;
  Descriptor& operator=(const Descriptor&) = delete;
  int get() const { return fd_; }
  bool ok() const { return fd_ >= 0; }

 private:
  int fd_;
};

// The target itself failed; nothing more can be written to it.
struct TargetFailed {
  int error;
};

// Whether an error (errno) concerns the whole target, not one file.
bool is_fatal(int error);

// Nothing becomes "leave as it is".
timespec to_timespec(const std::optional<Time>& time);

// SHA-256 of a file on the target; empty if it cannot be read. `from_medium`: not from memory.
std::string hash_of(const std::string& path, std::vector<std::byte>& buffer, bool from_medium);

constexpr size_t kHoleBlock = 65536;  // bytes

// Writes the next bytes of a file; whole blocks of zeros are left out, as holes. False if that
// failed (errno says why).
bool write_sparsely(int fd, std::span<const std::byte> bytes);

// Holds room on the target for the bag's lists while an export runs.
constexpr const char* kReserveFile = ".reserve";

// A text file of the bag, made new, that is on the medium when close() returns.
class TagFile {
 public:
  // Written under its name, or, where an older one must stay until the end, under another first.
  TagFile(const std::string& directory, std::string name, bool beside = false);
  void write(std::string_view text);
  // Flushes, and returns the line for the tag manifest.
  std::string close();

 private:
  std::string name_;
  std::string final_;
  std::string path_;
  Descriptor file_;
  Sha256 hash_;
};

}  // namespace undershelf
