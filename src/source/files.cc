#include "source/files.h"

#include <fmt/format.h>

#include <cerrno>
#include <cstring>
#include <list>
#include <map>
#include <mutex>

#include "model/error.h"

namespace undershelf {
namespace {

// Sources that are open, and what lies under the folders that were written to meanwhile.
struct Protected {
  std::mutex mutex;
  std::list<std::pair<const ProtectedSource*, Foundation>> sources;
  std::map<dev_t, Foundation> below;  // by st_dev of a folder
};

Protected& protected_sources() {
  static Protected all;
  return all;
}

[[noreturn]] void refuse(const std::string& name, const char* why) {
  throw Error(Failure::refused, fmt::format("{} {}. Choose another place.", name, why));
}

// `folder` and `name` as a path that the kernel resolves to the folder of the file.
std::string folder_path(int folder, const std::string& name) {
  const size_t slash = name.rfind('/');
  std::string inside = slash == std::string::npos ? "." : slash == 0 ? "/" : name.substr(0, slash);
  if (folder == AT_FDCWD || inside.starts_with('/')) return inside;
  return fmt::format("/proc/self/fd/{}/{}", folder, inside);
}

void require_apart(int folder, const std::string& name) {
  Protected& all = protected_sources();
  const std::lock_guard lock(all.mutex);
  if (all.sources.empty()) return;
  const std::string path = folder_path(folder, name);
  struct stat status {};
  if (::stat(path.c_str(), &status) != 0) return;  // opening it will say why
  const auto [below, is_new] = all.below.try_emplace(status.st_dev);
  if (is_new) below->second = foundation_of(path);
  for (const auto& [source, content] : all.sources) {
    if (meets(content, below->second)) refuse(name, "lies on the source");
  }
}

void require_no_source(const struct stat& status, const std::string& name) {
  Protected& all = protected_sources();
  const std::lock_guard lock(all.mutex);
  for (const auto& [source, content] : all.sources) {
    if (content.files.contains({status.st_dev, status.st_ino})) refuse(name, "is the source");
  }
}

}  // namespace

Descriptor open_to_write(int folder, const std::string& name, Place place, mode_t mode) {
  require_apart(folder, name);
  const bool is_new = place == Place::empty || place == Place::empty_list;
  const bool is_list = place == Place::empty_list || place == Place::own_list;
  // Without waiting for a pipe's other end; plain files do not know that flag.
  const int flags = O_RDWR | O_CREAT | O_NOFOLLOW | O_CLOEXEC | O_NOCTTY | O_NONBLOCK |
                    (is_new ? O_EXCL : 0) | (is_list ? O_APPEND : 0);
  Descriptor file(::openat(folder, name.c_str(), flags, mode));
  if (!file.ok()) return file;
  struct stat status {};
  if (::fstat(file.get(), &status) != 0) return Descriptor(-1);
  if (!S_ISREG(status.st_mode)) refuse(name, "is no plain file");
  require_no_source(status, name);
  return file;
}

Descriptor open_nameless(int folder) {
  require_apart(folder, ".");
  return Descriptor(::openat(folder, ".", O_TMPFILE | O_RDWR | O_CLOEXEC, 0666));
}

bool name_file(const Descriptor& file, int folder, const std::string& name) {
  const std::string by_number = fmt::format("/proc/self/fd/{}", file.get());
  return ::linkat(AT_FDCWD, by_number.c_str(), folder, name.c_str(), AT_SYMLINK_FOLLOW) == 0;
}

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

void write_new_file(const std::string& path, std::string_view content) {
  const Descriptor file = open_to_write(AT_FDCWD, path, Place::empty);
  if (file.ok() && write_all(file.get(), content.data(), content.size()) &&
      ::fsync(file.get()) == 0) {
    return;
  }
  const int error = errno;
  if (file.ok()) ::unlink(path.c_str());
  throw Error(Failure::incomplete,
              fmt::format("{} could not be written: {}. Make room, or choose another place.", path,
                          std::strerror(error)));
}

Descriptor open_plain(int folder, const std::string& name) {
  Descriptor file(
      ::openat(folder, name.c_str(), O_RDONLY | O_NOFOLLOW | O_CLOEXEC | O_NOCTTY | O_NONBLOCK));
  struct stat status {};
  if (file.ok() && (::fstat(file.get(), &status) != 0 || !S_ISREG(status.st_mode))) {
    errno = EINVAL;
    return Descriptor(-1);
  }
  return file;
}

std::string content_of(const Descriptor& file) {
  std::string content;
  std::string part(1 << 16, '\0');
  while (file.ok()) {
    const ssize_t n = ::read(file.get(), part.data(), part.size());
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) break;
    content.append(part, 0, static_cast<size_t>(n));
  }
  return content;
}

ProtectedSource::ProtectedSource(const struct stat& source) {
  Foundation content = content_of_source(source);
  Protected& all = protected_sources();
  const std::lock_guard lock(all.mutex);
  all.sources.emplace_back(this, std::move(content));
}

ProtectedSource::~ProtectedSource() {
  Protected& all = protected_sources();
  const std::lock_guard lock(all.mutex);
  all.sources.remove_if([&](const auto& one) { return one.first == this; });
  all.below.clear();  // what is mounted may change before the next
}

}  // namespace undershelf
