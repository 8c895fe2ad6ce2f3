#include "source/source.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "model/error.h"

namespace undershelf {
namespace {

// Adds [offset, offset + length) to the bad ranges, joining it to the last one.
void add_bad(ReadResult& result, uint64_t offset, uint64_t length) {
  if (length == 0) return;
  if (!result.bad.empty() && result.bad.back().end() == offset) {
    result.bad.back().length += length;
  } else {
    result.bad.push_back({offset, length});
  }
}

class FileSource : public Source {
 public:
  FileSource(int descriptor, uint64_t size) : descriptor_(descriptor), size_(size) {}
  ~FileSource() override { ::close(descriptor_); }
  FileSource(const FileSource&) = delete;
  FileSource& operator=(const FileSource&) = delete;

  uint64_t size() const override { return size_; }
  uint32_t sector_size() const override { return 512; }

  ReadResult read(uint64_t offset, std::span<std::byte> out) const override {
    ReadResult result;
    size_t done = 0;
    while (done < out.size()) {
      const uint64_t at = offset + done;
      if (at >= size_ || at < offset) break;
      const size_t want = std::min<uint64_t>(out.size() - done, size_ - at);
      const ssize_t got = ::pread(descriptor_, out.data() + done, want, static_cast<off_t>(at));
      if (got > 0) {
        done += static_cast<size_t>(got);
      } else if (got == 0) {
        break;  // shorter than it was when it was opened
      } else if (errno != EINTR) {
        done += read_by_sector(at, out.subspan(done, want), result);
      }
    }
    if (done < out.size()) {
      std::fill(out.begin() + static_cast<ptrdiff_t>(done), out.end(), std::byte{0});
      add_bad(result, offset + done, out.size() - done);
    }
    return result;
  }

 private:
  // Reads up to the next 64 KiB sector by sector, so that only what really fails is lost.
  size_t read_by_sector(uint64_t at, std::span<std::byte> out, ReadResult& result) const {
    const size_t until = std::min<size_t>(out.size(), 65536);
    size_t done = 0;
    while (done < until) {
      const uint64_t here = at + done;
      const size_t step = std::min<uint64_t>(until - done, 512 - here % 512);
      size_t got = 0;
      while (got < step) {
        const ssize_t n = ::pread(descriptor_, out.data() + done + got, step - got,
                                  static_cast<off_t>(here + got));
        if (n > 0) {
          got += static_cast<size_t>(n);
        } else if (n == 0 || errno != EINTR) {
          break;
        }
      }
      if (got < step) {
        std::memset(out.data() + done, 0, step);
        add_bad(result, here, step);
      }
      done += step;
    }
    return done;
  }

  int descriptor_;
  uint64_t size_;
};

}  // namespace

SourcePtr open_source(const std::string& path) {
  const int descriptor = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NOCTTY | O_NONBLOCK);
  if (descriptor < 0) {
    throw Error(Failure::unavailable,
                fmt::format("Cannot open the source {}: {}. Check the path and the permissions.",
                            path, std::strerror(errno)));
  }
  struct stat status {};
  const bool known = ::fstat(descriptor, &status) == 0;
  std::string why;
  if (!known) {
    why = fmt::format("The source {} cannot be examined: {}.", path, std::strerror(errno));
  } else if (S_ISDIR(status.st_mode)) {
    why = fmt::format("The source {} is a folder. Give an image file.", path);
  } else if (S_ISBLK(status.st_mode)) {
    why = fmt::format(
        "The source {} is a device. This version reads image files: copy the device to an image "
        "first, and work on the copy.",
        path);
  } else if (!S_ISREG(status.st_mode)) {
    why = fmt::format("The source {} is no image file. Give an image file.", path);
  } else if (status.st_size == 0) {
    why = fmt::format("The source {} is empty. Check that the copy of the medium was completed.",
                      path);
  }
  if (!why.empty()) {
    ::close(descriptor);
    throw Error(Failure::unavailable, why);
  }
  return std::make_shared<FileSource>(descriptor, static_cast<uint64_t>(status.st_size));
}

ReadResult Window::read(uint64_t offset, std::span<std::byte> out) const {
  const uint64_t inside = offset < length_ ? std::min<uint64_t>(out.size(), length_ - offset) : 0;
  ReadResult result;
  if (inside > 0) {
    result = base_->read(offset_ + offset, out.first(inside));
    for (ByteRange& range : result.bad) range.offset -= offset_;
  }
  if (inside < out.size()) {
    std::fill(out.begin() + static_cast<ptrdiff_t>(inside), out.end(), std::byte{0});
    add_bad(result, offset + inside, out.size() - inside);
  }
  return result;
}

}  // namespace undershelf
