#include "source/sysfs.h"

#include <dirent.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>

#include <fstream>
#include <memory>
#include <sstream>
#include <string_view>

namespace undershelf {

namespace fs = std::filesystem;

std::string first_line(const fs::path& path) {
  std::ifstream in(path);
  std::string line;
  std::getline(in, line);
  line.erase(line.find_last_not_of(" \t\n") + 1);
  return line;
}

std::vector<fs::path> entries_of(const fs::path& folder) {
  // std::filesystem's iterator ends the program where memory does.
  const std::unique_ptr<DIR, int (*)(DIR*)> open(::opendir(folder.c_str()), ::closedir);
  std::vector<fs::path> entries;
  while (open) {
    const dirent* entry = ::readdir(open.get());
    if (entry == nullptr) break;
    const std::string_view name = entry->d_name;
    if (name != "." && name != "..") entries.push_back(folder / name);
  }
  return entries;
}

std::optional<dev_t> device_number(const std::string& text) {
  unsigned major_number = 0;
  unsigned minor_number = 0;
  char colon = 0;
  std::istringstream in(text);
  if (!(in >> major_number >> colon >> minor_number) || colon != ':') return std::nullopt;
  return makedev(major_number, minor_number);
}

std::optional<dev_t> block_device_at(const std::string& path) {
  struct stat status {};
  if (::stat(path.c_str(), &status) != 0 || !S_ISBLK(status.st_mode)) return std::nullopt;
  return status.st_rdev;
}

fs::path sysfs_of(dev_t device) {
  std::error_code error;
  const fs::path path =
      fs::canonical(fmt::format("/sys/dev/block/{}:{}", major(device), minor(device)), error);
  return error ? fs::path() : path;
}

}  // namespace undershelf
