// How the program opens files that are no source: the one door to all it writes to, and plain files
// that it reads of its own.
#pragma once

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <string>
#include <string_view>
#include <utility>

#include "source/device.h"

namespace undershelf {

// A file descriptor that closes itself.
class Descriptor {
 public:
  explicit Descriptor(int fd) : fd_(fd) {}
  ~Descriptor() {
    if (fd_ >= 0) ::close(fd_);
  }
  Descriptor(Descriptor&& other) noexcept : fd_(std::exchange(other.fd_, -1)) {}
  Descriptor& operator=(Descriptor&& other) noexcept {
    std::swap(fd_, other.fd_);
    return *this;
  }
  int get() const { return fd_; }
  bool ok() const { return fd_ >= 0; }

 private:
  int fd_;
};

// What may be in the place of a file that is written.
enum class Place {
  empty,       // nothing, neither a link
  empty_list,  // likewise; what is written is appended
  own,         // a plain file of ours, which is gone on with
  own_list,    // likewise; what is written is appended
};

// Opens `name` in the open folder `folder` (or AT_FDCWD) for reading and writing. A link is never
// followed in its last part. Not ok(), and errno, if that fails. Throws Error (refused) if it lies
// on a source that is open now, is one, or is no plain file: before a byte is written. From any
// thread.
Descriptor open_to_write(int folder, const std::string& name, Place place, mode_t mode = 0666);

// A file without a name in that folder, which goes away by itself unless it is given one
// (name_file()). Not ok() where the file system has no such files.
Descriptor open_nameless(int folder);

// Gives such a file its name, where nothing may be. False, and errno, if that fails.
bool name_file(const Descriptor& file, int folder, const std::string& name);

// Writes all of it. False, and errno, if that fails.
bool write_all(int fd, const void* data, size_t size);

// A new file with that content, on the medium when it returns. Throws Error (incomplete) with a
// sentence that begins with the path, and leaves nothing then; (refused) as open_to_write().
void write_new_file(const std::string& path, std::string_view content);

// Opens a plain file to read it, following no link in its last part; never waits for what feeds a
// pipe. Not ok(), and errno, if there is none, or something else.
Descriptor open_plain(int folder, const std::string& name);

// All of it; what could be read, if reading fails.
std::string content_of(const Descriptor& file);

// While it lives, open_to_write() opens nothing on that source.
class ProtectedSource {
 public:
  explicit ProtectedSource(const struct stat& source);
  ~ProtectedSource();
  ProtectedSource(const ProtectedSource&) = delete;
  ProtectedSource& operator=(const ProtectedSource&) = delete;
};

}  // namespace undershelf
