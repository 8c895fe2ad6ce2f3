#include "source/source.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/fs.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "model/error.h"
#include "source/split.h"

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
  FileSource(int descriptor, uint64_t size, uint32_t sector_size)
      : descriptor_(descriptor), size_(size), sector_size_(sector_size) {}
  ~FileSource() override { ::close(descriptor_); }
  FileSource(const FileSource&) = delete;
  FileSource& operator=(const FileSource&) = delete;

  uint64_t size() const override { return size_; }
  uint32_t sector_size() const override { return sector_size_; }

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
      const size_t step = std::min<uint64_t>(until - done, sector_size_ - here % sector_size_);
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
  uint32_t sector_size_;
};

SourcePtr open_file(const std::string& path) {
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
  if (known && S_ISBLK(status.st_mode) &&
      (::ioctl(descriptor, BLKGETSIZE64, &size) != 0 ||
       ::ioctl(descriptor, BLKSSZGET, &sector_size) != 0)) {
    size = 0;
  }
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
  return std::make_shared<FileSource>(descriptor, size, static_cast<uint32_t>(sector_size));
}

}  // namespace

SourcePtr open_source(const std::string& path, uint64_t skip) {
  const std::vector<std::string> paths = segments_of(path);
  std::vector<SourcePtr> segments;
  for (const std::string& segment : paths) segments.push_back(open_file(segment));
  SourcePtr source = join_segments(paths, segments);
  if (skip == 0) return source;
  if (skip >= source->size()) {
    throw Error(Failure::unavailable,
                fmt::format("The source {} has {} bytes, fewer than the {} to leave out.", path,
                            source->size(), skip));
  }
  return std::make_shared<Window>(source, skip, source->size() - skip);
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
