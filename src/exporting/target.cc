#include "exporting/target.h"

#include <linux/magic.h>
#include <sys/statfs.h>
#include <unistd.h>

#include <filesystem>

namespace undershelf {
namespace {

// Not in <linux/magic.h> of every system.
constexpr unsigned long kExfatMagic = 0x2011BAB0;
constexpr unsigned long kNtfsMagic = 0x5346544E;
constexpr unsigned long kHfsPlusMagic = 0x482B;
constexpr unsigned long kFuseBlockMagic = 0x65735546;
constexpr unsigned long kCifsMagic = 0xFF534D42;
constexpr unsigned long kSmb2Magic = 0xFE534D42;

}  // namespace

std::string nearest_existing(const std::string& path) {
  namespace fs = std::filesystem;
  std::error_code error;
  fs::path at = fs::absolute(path);
  while (!fs::exists(at, error) && at.has_relative_path()) at = at.parent_path();
  return at.string();
}

Target examine_target(const std::string& directory) {
  Target target;
  const std::string at = nearest_existing(directory);
  target.where = at;
  const long most = ::pathconf(at.c_str(), _PC_NAME_MAX);
  if (most > 0) target.most_name_bytes = static_cast<size_t>(most);
  struct statfs status {};
  if (::statfs(at.c_str(), &status) != 0) return target;
  target.free_bytes =
      static_cast<uint64_t>(status.f_bavail) * static_cast<uint64_t>(status.f_bsize);
  const auto type = static_cast<unsigned long>(status.f_type) & 0xFFFFFFFF;
  if (type == MSDOS_SUPER_MAGIC) target.most_file_bytes = UINT32_MAX;
  target.strict_names = type == MSDOS_SUPER_MAGIC || type == kExfatMagic || type == kNtfsMagic ||
                        type == kFuseBlockMagic || type == kCifsMagic || type == kSmb2Magic;
  target.folds_case = target.strict_names || type == kHfsPlusMagic;
  return target;
}

}  // namespace undershelf
