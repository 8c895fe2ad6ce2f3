#include "exporting/target.h"

#include <fmt/format.h>
#include <linux/magic.h>
#include <mntent.h>
#include <sys/stat.h>
#include <sys/statfs.h>
#include <unistd.h>

#include <cerrno>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <memory>

#include "model/error.h"
#include "source/protect.h"

namespace undershelf {
namespace {

// Not in <linux/magic.h> of every system.
constexpr unsigned long kExfatMagic = 0x2011BAB0;
constexpr unsigned long kNtfsMagic = 0x5346544E;
constexpr unsigned long kHfsPlusMagic = 0x482B;
constexpr unsigned long kFuseBlockMagic = 0x65735546;
constexpr unsigned long kCifsMagic = 0xFF534D42;
constexpr unsigned long kSmb2Magic = 0xFE534D42;

namespace fs = std::filesystem;

bool is_listed_mount_point(const std::string& folder) {
  const std::unique_ptr<FILE, decltype(&::endmntent)> table(::setmntent("/etc/fstab", "r"),
                                                            ::endmntent);
  if (!table) return false;
  while (const mntent* line = ::getmntent(table.get())) {
    if (fs::path(line->mnt_dir).lexically_normal() == fs::path(folder)) return true;
  }
  return false;
}

// Whether a folder is meant for mounting, and nothing is mounted there.
bool is_empty_mount_point(const std::string& folder) {
  struct stat here {};
  struct stat above {};
  if (::stat(folder.c_str(), &here) != 0 || ::stat((folder + "/..").c_str(), &above) != 0) {
    return false;
  }
  if (here.st_dev != above.st_dev || here.st_ino == above.st_ino) return false;
  if (is_listed_mount_point(folder)) return true;
  const fs::path parent = fs::path(folder).parent_path();
  const bool usual = parent == "/mnt" || parent == "/media" || parent.parent_path() == "/media" ||
                     parent.parent_path() == "/run/media";
  std::error_code error;
  return (usual || folder == "/mnt") && fs::is_empty(folder, error);
}

}  // namespace

std::string temporary_folder() {
  std::error_code error;
  const fs::path folder = fs::temp_directory_path(error);
  if (!error) return folder.string();
  const char* const set = std::getenv("TMPDIR");
  throw Error(
      Failure::refused,
      fmt::format("The folder for temporary files, {}, cannot be used: {}. Set TMPDIR to one "
                  "that is there, on another medium than the source.",
                  set == nullptr ? "/tmp" : set, error.message()));
}

void require_writable_parent(const std::string& directory) {
  std::error_code error;
  const fs::path path = fs::absolute(directory, error).lexically_normal();
  const fs::path whole = path.has_filename() ? path : path.parent_path();
  const bool exists = fs::exists(whole, error);
  if (exists && !fs::is_directory(whole, error)) {
    throw Error(Failure::refused,
                fmt::format("{} is a file. Choose a new folder.", whole.string()));
  }
  const fs::path parent = exists ? whole : whole.parent_path();
  if (!fs::is_directory(parent, error)) {
    throw Error(Failure::refused,
                fmt::format("There is no folder {}. Is the target mounted? Only the last folder of "
                            "--to is made.",
                            parent.string()));
  }
  for (const fs::path& folder : {parent, parent.parent_path()}) {
    if (is_empty_mount_point(folder.string())) {
      throw Error(Failure::refused,
                  fmt::format("{} is a mount point, and nothing is mounted there. Mount the target "
                              "first.",
                              folder.string()));
    }
  }
  if (::access(parent.c_str(), W_OK | X_OK) != 0) {
    throw Error(Failure::refused,
                fmt::format("The folder {} may not be written to: {}. Choose another target.",
                            parent.string(), std::strerror(errno)));
  }
}

void require_new_file(const std::string& path) {
  std::error_code error;
  if (fs::exists(fs::symlink_status(path, error))) {
    throw Error(
        Failure::refused,
        fmt::format("{} is there already. Nothing is overwritten: choose a new name.", path));
  }
  const fs::path parent = fs::path(path).parent_path();
  const std::string folder = parent.empty() ? "." : parent.string();
  require_writable_parent(folder);
  if (!fs::is_directory(folder, error)) {
    throw Error(Failure::refused,
                fmt::format("There is no folder {}. Is the target mounted?", folder));
  }
}

Target examine_target(const std::string& directory) {
  Target target;
  const std::string at = nearest_existing(directory);
  target.where = at;
  const long most = ::pathconf(at.c_str(), _PC_NAME_MAX);
  if (most > 0) target.names.most_name_bytes = static_cast<size_t>(most);
  struct statfs status {};
  if (::statfs(at.c_str(), &status) != 0) return target;
  target.free_bytes =
      static_cast<uint64_t>(status.f_bavail) * static_cast<uint64_t>(status.f_bsize);
  const auto type = static_cast<unsigned long>(status.f_type) & 0xFFFFFFFF;
  if (type == MSDOS_SUPER_MAGIC) target.most_file_bytes = UINT32_MAX;
  target.names.strict_names = type == MSDOS_SUPER_MAGIC || type == kExfatMagic ||
                              type == kNtfsMagic || type == kFuseBlockMagic || type == kCifsMagic ||
                              type == kSmb2Magic;
  target.names.folds_case = target.names.strict_names || type == kHfsPlusMagic;
  return target;
}

}  // namespace undershelf
