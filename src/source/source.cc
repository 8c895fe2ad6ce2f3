#include "source/source.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>

#include "model/error.h"
#include "source/ledger.h"
#include "source/ledger_source.h"
#include "source/medium_source.h"
#include "source/nbd.h"
#include "source/open_file.h"
#include "source/refused.h"
#include "source/split.h"
#include "source/through.h"

namespace undershelf {
namespace {

class FileSource : public Source {
 public:
  explicit FileSource(const std::string& path)
      : opened_(open_file(path)), refused_(opened_.sector_size) {
    // Read past the page cache, which reads more than it is asked for, one bad sector costs one.
    if (opened_.is_device) direct_ = open_direct(path);
  }
  ~FileSource() override {
    opened_.kept.reset();
    ::close(opened_.descriptor);
    if (direct_ >= 0) ::close(direct_);
  }
  FileSource(const FileSource&) = delete;
  FileSource& operator=(const FileSource&) = delete;

  uint64_t size() const override { return opened_.size; }
  uint32_t sector_size() const override { return opened_.sector_size; }

  uint64_t next_data(uint64_t offset) const override {
    if (opened_.is_device) return offset;
    const off_t data = ::lseek(opened_.descriptor, static_cast<off_t>(offset), SEEK_DATA);
    if (data >= 0) return static_cast<uint64_t>(data);
    // All that follows is a hole, or the file has become shorter.
    struct stat now {};
    const bool is_hole = errno == ENXIO && ::fstat(opened_.descriptor, &now) == 0 &&
                         static_cast<uint64_t>(now.st_size) >= opened_.size;
    return is_hole ? std::max(offset, opened_.size) : offset;
  }

  uint64_t refused() const override { return refused_.bytes(); }

  ReadResult read(uint64_t offset, std::span<std::byte> out) const override {
    ReadResult result;
    size_t done = 0;
    while (done < out.size()) {
      const uint64_t at = offset + done;
      if (at >= opened_.size || at < offset) break;
      const uint64_t left = std::min<uint64_t>(out.size() - done, opened_.size - at);
      const Refused::Part part = refused_.first_part({at, left});
      const size_t want = part.range.length;
      if (part.refused) {
        std::memset(out.data() + done, 0, want);
        add_bad(result, {{at, want}});
        done += want;
        continue;
      }
      const ssize_t got =
          ::pread(opened_.descriptor, out.data() + done, want, static_cast<off_t>(at));
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
      add_bad(result, {{offset + done, out.size() - done}});
    }
    return result;
  }

 private:
  // Reads up to the next 64 KiB sector by sector, so that only what really fails is lost.
  size_t read_by_sector(uint64_t at, std::span<std::byte> out, ReadResult& result) const {
    const uint32_t sector = opened_.sector_size;
    const AlignedBytes bytes = aligned_bytes(sector);
    const size_t until = std::min<size_t>(out.size(), 65536);
    for (size_t done = 0; done < until;) {
      const uint64_t here = at + done;
      const size_t within = here % sector;
      const size_t step = std::min<uint64_t>(until - done, sector - within);
      if (read_sector(here - within, {bytes.get(), sector}, within + step)) {
        std::memcpy(out.data() + done, bytes.get() + within, step);
      } else {
        std::memset(out.data() + done, 0, step);
        add_bad(result, {{here, step}});
      }
      done += step;
    }
    return until;
  }

  // Whether its first `least` bytes are there. That it is refused is noted; that a file has become
  // shorter is not, it may grow again.
  bool read_sector(uint64_t at, std::span<std::byte> out, size_t least) const {
    size_t got = 0;
    while (got < out.size()) {
      const ssize_t n = ::pread(direct_ >= 0 ? direct_ : opened_.descriptor, out.data() + got,
                                out.size() - got, static_cast<off_t>(at + got));
      if (n > 0) {
        got += static_cast<size_t>(n);
      } else if (n == 0) {
        break;
      } else if (errno != EINTR) {
        refused_.note({at, 1});
        break;
      }
    }
    return got >= least;
  }

  OpenedFile opened_;
  mutable Refused refused_;  // by sectors
  int direct_ = -1;
};

// Whatever one path or URI leads to.
SourcePtr open_one(const std::string& path) {
  if (is_nbd(path)) return source_over(open_nbd(path));
  SourcePtr file = std::make_shared<FileSource>(path);
  if (!std::filesystem::exists(ledger_of(path))) return file;
  return with_ledger(std::move(file), path);
}

}  // namespace

void add_bad(ReadResult& result, const BadRange& range) {
  if (range.length == 0) return;
  const bool goes_on = !result.bad.empty() && result.bad.back().end() == range.offset &&
                       result.bad.back().unread == range.unread;
  if (goes_on) {
    result.bad.back().length += range.length;
  } else {
    result.bad.push_back(range);
  }
}

uint64_t gaps_length(const Source& source) {
  uint64_t length = 0;
  for (const BadRange& gap : source.gaps()) length += gap.length;
  return length;
}

SourcePtr open_source(const std::string& path, uint64_t skip, const std::string& through) {
  SourcePtr source;
  if (through.empty()) {
    const std::vector<std::string> paths = segments_of(path);
    std::vector<SourcePtr> segments;
    for (const std::string& segment : paths) segments.push_back(open_one(segment));
    source = join_segments(paths, segments);
  } else {
    source = open_through(path, through);
  }
  if (skip == 0) return source;
  if (skip >= source->size()) {
    throw Error(Failure::unavailable,
                fmt::format("The source {} has {} bytes, fewer than the {} to leave out.", path,
                            source->size(), skip));
  }
  return std::make_shared<Window>(source, skip, source->size() - skip);
}

Window::Window(SourcePtr base, uint64_t offset, uint64_t length)
    : base_(std::move(base)), offset_(offset), length_(length) {
  for (const BadRange& gap : base_->gaps()) {
    const ByteRange inside = overlap(gap, {offset, length});
    if (inside.length == 0) continue;
    gaps_.push_back({{inside.offset - offset, inside.length}, gap.unread});
  }
}

ReadResult Window::read(uint64_t offset, std::span<std::byte> out) const {
  const uint64_t inside = offset < length_ ? std::min<uint64_t>(out.size(), length_ - offset) : 0;
  ReadResult result;
  if (inside > 0) {
    result = base_->read(offset_ + offset, out.first(inside));
    for (BadRange& range : result.bad) range.offset -= offset_;
  }
  if (inside < out.size()) {
    std::fill(out.begin() + static_cast<ptrdiff_t>(inside), out.end(), std::byte{0});
    add_bad(result, {{offset + inside, out.size() - inside}});
  }
  return result;
}

}  // namespace undershelf
