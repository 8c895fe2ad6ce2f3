#include "exporting/target_file.h"

#include <fcntl.h>
#include <fmt/format.h>

#include <algorithm>
#include <cerrno>
#include <cstdio>

namespace undershelf {
namespace {

bool write_all(int fd, const void* data, size_t size) {
  const auto* bytes = static_cast<const char*>(data);
  while (size > 0) {
    const ssize_t n = ::write(fd, bytes, size);
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) return false;
    bytes += n;
    size -= static_cast<size_t>(n);
  }
  return true;
}

}  // namespace

bool is_fatal(int error) {
  return error == ENOSPC || error == EDQUOT || error == EROFS || error == EIO || error == ENODEV;
}

timespec to_timespec(const std::optional<Time>& time) {
  if (!time) return {0, UTIME_OMIT};
  int64_t seconds = time->ticks / kTicksPerSecond;
  int64_t fraction = time->ticks % kTicksPerSecond;
  if (fraction < 0) {
    fraction += kTicksPerSecond;
    --seconds;
  }
  return {seconds, fraction * 100};
}

std::string hash_of(const std::string& path, std::vector<std::byte>& buffer, bool from_medium) {
  const Descriptor file(::open(path.c_str(), O_RDONLY | O_NOFOLLOW | O_CLOEXEC));
  if (!file.ok()) return {};
  if (from_medium) ::posix_fadvise(file.get(), 0, 0, POSIX_FADV_DONTNEED);
  Sha256 hash;
  while (true) {
    const ssize_t n = ::read(file.get(), buffer.data(), buffer.size());
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) return {};
    if (n == 0) return hash.hex();
    hash.update(std::span(buffer).first(static_cast<size_t>(n)));
  }
}

bool write_sparsely(int fd, std::span<const std::byte> bytes) {
  for (size_t at = 0; at < bytes.size(); at += kHoleBlock) {
    const auto block = bytes.subspan(at, std::min(kHoleBlock, bytes.size() - at));
    const bool zero = block.size() == kHoleBlock &&
                      std::ranges::all_of(block, [](std::byte b) { return b == std::byte{0}; });
    if (zero ? ::lseek(fd, static_cast<off_t>(block.size()), SEEK_CUR) < 0
             : !write_all(fd, block.data(), block.size())) {
      return false;
    }
  }
  return true;
}

TagFile::TagFile(const std::string& directory, std::string name, bool beside)
    : name_(std::move(name)),
      final_(directory + "/" + name_),
      path_(beside ? final_ + ".new" : final_),
      file_(::open(path_.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0666)) {
  if (!file_.ok()) throw TargetFailed{errno};
}

void TagFile::write(std::string_view text) {
  if (!write_all(file_.get(), text.data(), text.size())) throw TargetFailed{errno};
  hash_.update(std::as_bytes(std::span(text)));
}

std::string TagFile::close() {
  if (::fsync(file_.get()) != 0) throw TargetFailed{errno};
  if (path_ != final_ && ::rename(path_.c_str(), final_.c_str()) != 0) throw TargetFailed{errno};
  return fmt::format("{}  {}\n", hash_.hex(), name_);
}

}  // namespace undershelf
