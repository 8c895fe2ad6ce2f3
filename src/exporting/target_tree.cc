#include "exporting/target_tree.h"

#include <fcntl.h>
#include <sys/stat.h>

#include <algorithm>
#include <cerrno>
#include <cstdio>

namespace undershelf {
namespace {

constexpr int kFolder = O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC;

std::string_view parent_of(std::string_view path) {
  const size_t slash = path.rfind('/');
  return slash == std::string_view::npos ? std::string_view() : path.substr(0, slash);
}

std::string name_of(std::string_view path) { return std::string(path.substr(path.rfind('/') + 1)); }

}  // namespace

TargetTree::TargetTree(const std::string& root)
    : root_(::open(root.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC)) {
  if (!root_.ok()) throw TargetFailed{errno};
}

Descriptor TargetTree::step_into(int parent, const std::string& name, Missing missing) const {
  const int there = ::openat(parent, name.c_str(), kFolder);
  if (there >= 0 || missing == Missing::fail) return Descriptor(there);
  if (errno == ELOOP || errno == ENOTDIR) {
    struct stat status {};
    const bool link = ::fstatat(parent, name.c_str(), &status, AT_SYMLINK_NOFOLLOW) == 0 &&
                      S_ISLNK(status.st_mode);
    if (!link) throw TargetFailed{ENOTDIR};
    ::unlinkat(parent, name.c_str(), 0);
  } else if (errno != ENOENT) {
    throw TargetFailed{errno};
  }
  if (::mkdirat(parent, name.c_str(), 0777) != 0 && errno != EEXIST) throw TargetFailed{errno};
  Descriptor made(::openat(parent, name.c_str(), kFolder));
  if (!made.ok()) throw TargetFailed{errno};
  return made;
}

const Descriptor& TargetTree::folder(std::string_view path, Missing missing) {
  while (path.ends_with('/')) path.remove_suffix(1);
  if (path.empty()) return root_;
  if (last_ && last_path_ == path) return *last_;
  Descriptor at(::fcntl(root_.get(), F_DUPFD_CLOEXEC, 0));
  for (size_t begin = 0; begin < path.size() && at.ok();) {
    const size_t end = std::min(path.find('/', begin), path.size());
    at = step_into(at.get(), std::string(path.substr(begin, end - begin)), missing);
    begin = end + 1;
  }
  last_path_ = at.ok() ? std::string(path) : std::string();
  last_.emplace(std::move(at));
  return *last_;
}

void TargetTree::make_folder(std::string_view path) { folder(path, Missing::make); }

Descriptor TargetTree::create(const std::string& path) {
  const Descriptor& parent = folder(parent_of(path), Missing::make);
  return open_to_write(parent.get(), name_of(path), Place::empty);
}

Descriptor TargetTree::open_to_read(const std::string& path) {
  const Descriptor& parent = folder(parent_of(path), Missing::fail);
  if (!parent.ok()) return Descriptor(-1);
  return open_plain(parent.get(), name_of(path));
}

void TargetTree::remove(const std::string& path) {
  const Descriptor& parent = folder(parent_of(path), Missing::fail);
  if (parent.ok()) ::unlinkat(parent.get(), name_of(path).c_str(), 0);
}

void TargetTree::move(const std::string& from, const std::string& to) {
  const Descriptor& parent = folder(parent_of(to), Missing::make);
  if (::renameat(root_.get(), from.c_str(), parent.get(), name_of(to).c_str()) != 0) {
    throw TargetFailed{errno};
  }
}

bool TargetTree::link(const std::string& from, const std::string& to) {
  const Descriptor source = open_to_read(from);
  if (!source.ok()) return false;
  const Descriptor& parent = folder(parent_of(to), Missing::make);
  ::unlinkat(parent.get(), name_of(to).c_str(), 0);
  const std::string by_number = "/proc/self/fd/" + std::to_string(source.get());
  return ::linkat(AT_FDCWD, by_number.c_str(), parent.get(), name_of(to).c_str(),
                  AT_SYMLINK_FOLLOW) == 0;
}

bool TargetTree::copy(const std::string& from, const std::string& to,
                      std::vector<std::byte>& buffer) {
  const Descriptor source = open_to_read(from);
  const std::string staged = std::string(kStagingFolder) + "/copy";
  struct stat status {};
  const Descriptor target = create(staged);
  if (!source.ok() || !target.ok() || ::fstat(source.get(), &status) != 0) return false;
  while (true) {
    const ssize_t n = ::read(source.get(), buffer.data(), buffer.size());
    if (n == 0) break;
    if (n < 0 || !write_sparsely(target.get(), std::span(buffer).first(static_cast<size_t>(n)))) {
      remove(staged);
      return false;
    }
  }
  const timespec times[2] = {status.st_atim, status.st_mtim};
  if (::ftruncate(target.get(), status.st_size) != 0 || ::fsync(target.get()) != 0) return false;
  ::futimens(target.get(), times);
  move(staged, to);
  return true;
}

void TargetTree::place(const std::string& staged, const std::string& path) {
  const std::string whole = staged + '/' + path;
  if (!come_along_.empty() && whole.starts_with(come_along_)) return;
  const std::string name = name_of(path);
  if (const std::string_view parent = parent_of(whole); last_placed_ != parent) {
    last_placed_.clear();
    place_from_.emplace(::fcntl(folder(staged, Missing::fail).get(), F_DUPFD_CLOEXEC, 0));
    place_to_.emplace(::fcntl(root_.get(), F_DUPFD_CLOEXEC, 0));
    for (size_t begin = 0, end; (end = path.find('/', begin)) != std::string::npos;
         begin = end + 1) {
      const std::string part = path.substr(begin, end - begin);
      if (::renameat2(place_from_->get(), part.c_str(), place_to_->get(), part.c_str(),
                      RENAME_NOREPLACE) == 0) {
        come_along_ = whole.substr(0, staged.size() + 1 + end + 1);
        return;
      }
      // It is there, or the target cannot be told not to replace.
      place_to_ = step_into(place_to_->get(), part, Missing::make);
      place_from_ = step_into(place_from_->get(), part, Missing::fail);
    }
    last_placed_ = parent;
  }
  if (::renameat(place_from_->get(), name.c_str(), place_to_->get(), name.c_str()) == 0) return;
  // Its folder may have been moved under a name that is the same to the target.
  const int error = errno;
  if (place_from_->ok() || !open_to_read(path).ok()) throw TargetFailed{error};
}

void TargetTree::set_modified(const std::string& path, const std::optional<Time>& time) {
  const Descriptor& there = folder(path, Missing::fail);
  if (!there.ok()) return;
  const timespec times[2] = {{0, UTIME_OMIT}, time_to_set(time)};
  ::futimens(there.get(), times);
}

}  // namespace undershelf
