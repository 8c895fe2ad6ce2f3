#include "exporting/target_file.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/xattr.h>

#include <algorithm>
#include <boost/endian/buffers.hpp>
#include <cerrno>
#include <cstdio>
#include <cstring>

#include "model/blank.h"

namespace undershelf {
namespace {

Descriptor open_list(int directory, const std::string& name) {
  Descriptor file = open_nameless(directory);
  if (file.ok()) {
    ::fcntl(file.get(), F_SETFL, O_APPEND);
    return file;
  }
  // Not every file system has such files.
  const std::string taken = fmt::format(".{}.{}", name, ::getpid());
  file = open_to_write(directory, taken, Place::empty_list, 0600);
  if (file.ok()) ::unlinkat(directory, taken.c_str(), 0);
  return file;
}

}  // namespace

std::string sentence_of(const TargetFailed& failure) {
  return fmt::format("The target failed: {}", std::strerror(failure.error));
}

bool is_fatal(int error) {
  return error == ENOSPC || error == EDQUOT || error == EROFS || error == EIO || error == ENODEV;
}

timespec time_to_set(const std::optional<Time>& time) {
  return time ? to_timespec(*time) : timespec{0, UTIME_OMIT};
}

bool set_created(int fd, const Time& created) {
  constexpr int64_t kSecondsFrom1601 = 11'644'473'600;
  const boost::endian::big_int64_buf_t stored(created.ticks + kSecondsFrom1601 * kTicksPerSecond);
  return ::fsetxattr(fd, "system.ntfs_crtime_be", stored.data(), sizeof(stored), 0) == 0;
}

std::string hash_of(const Descriptor& file, std::vector<std::byte>& buffer, bool from_medium) {
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
    const bool zero = block.size() == kHoleBlock && is_zeros(block);
    if (zero ? ::lseek(fd, static_cast<off_t>(block.size()), SEEK_CUR) < 0
             : !write_all(fd, block.data(), block.size())) {
      return false;
    }
  }
  return true;
}

TagFile::TagFile(int directory, std::string name, Name kind)
    : name_(std::move(name)),
      file_(kind == Name::own ? open_to_write(directory, name_, Place::own_list)
                              : open_list(directory, name_)) {
  struct stat status {};
  if (!file_.ok() || ::fstat(file_.get(), &status) != 0) throw TargetFailed{errno};
  length_ = static_cast<uint64_t>(status.st_size);
  hashed_ = length_ == 0;
}

void TagFile::append(std::string_view text) {
  if (!write_all(file_.get(), text.data(), text.size())) {
    const int error = errno;
    take_back(length_);
    throw TargetFailed{error};
  }
  length_ += text.size();
  if (hashed_) hash_.update(std::as_bytes(std::span(text)));
}

void TagFile::take_back(uint64_t length) {
  hashed_ = false;
  // Making a file shorter needs no room.
  if (::ftruncate(file_.get(), static_cast<off_t>(length)) == 0) length_ = length;
}

void TagFile::read(const std::function<void(std::span<const std::byte>)>& take) const {
  std::vector<std::byte> buffer(1 << 16);
  for (uint64_t at = 0; at < length_;) {
    const ssize_t n = ::pread(file_.get(), buffer.data(), buffer.size(), static_cast<off_t>(at));
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) throw TargetFailed{n == 0 ? EIO : errno};
    take(std::span(buffer).first(static_cast<size_t>(n)));
    at += static_cast<uint64_t>(n);
  }
}

std::string TagFile::close() {
  if (::fsync(file_.get()) != 0 || ::lseek(file_.get(), 0, SEEK_SET) < 0) throw TargetFailed{errno};
  std::vector<std::byte> buffer(1 << 16);
  const std::string hash = hashed_ ? hash_.hex() : hash_of(file_, buffer, false);
  return fmt::format("{}  {}\n", hash, name_);
}

void replace_file(int directory, const std::string& name, std::string_view content) {
  const std::string beside = name + ".new";
  ::unlinkat(directory, beside.c_str(), 0);
  const Descriptor file = open_to_write(directory, beside, Place::empty);
  if (!file.ok() || !write_all(file.get(), content.data(), content.size()) ||
      ::fsync(file.get()) != 0 ||
      ::renameat(directory, beside.c_str(), directory, name.c_str()) != 0) {
    const int error = errno;
    ::unlinkat(directory, beside.c_str(), 0);
    throw TargetFailed{error};
  }
}

}  // namespace undershelf
