#include "source/device.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <sstream>

namespace undershelf {
namespace {

namespace fs = std::filesystem;

std::string first_line(const fs::path& path) {
  std::ifstream in(path);
  std::string line;
  std::getline(in, line);
  line.erase(line.find_last_not_of(" \t\n") + 1);
  return line;
}

// The folder of a device in sysfs; empty if there is none.
fs::path sysfs_of(dev_t device) {
  std::error_code error;
  const fs::path path =
      fs::canonical(fmt::format("/sys/dev/block/{}:{}", major(device), minor(device)), error);
  return error ? fs::path() : path;
}

std::optional<dev_t> number_in(const fs::path& sysfs) {
  unsigned major_number = 0;
  unsigned minor_number = 0;
  char colon = 0;
  std::istringstream in(first_line(sysfs / "dev"));
  if (!(in >> major_number >> colon >> minor_number)) return std::nullopt;
  return makedev(major_number, minor_number);
}

std::vector<fs::path> entries_of(const fs::path& folder) {
  std::vector<fs::path> entries;
  std::error_code error;
  for (const auto& entry : fs::directory_iterator(folder, error)) entries.push_back(entry.path());
  return entries;
}

// The numbers of a device and of its partitions.
std::set<dev_t> with_partitions(dev_t device, const fs::path& sysfs) {
  std::set<dev_t> numbers = {device};
  for (const fs::path& entry : entries_of(sysfs)) {
    if (!fs::exists(entry / "partition")) continue;
    if (const auto number = number_in(entry)) numbers.insert(*number);
  }
  return numbers;
}

// /proc/self/mountinfo, proc(5): ID parent major:minor root mount-point options ... - type ...
void add_mounts(const std::set<dev_t>& devices, DeviceFacts& facts) {
  std::ifstream in("/proc/self/mountinfo");
  for (std::string line; std::getline(in, line);) {
    std::istringstream fields(line);
    std::string id, parent, number, root, point, options;
    fields >> id >> parent >> number >> root >> point >> options;
    unsigned major_number = 0;
    unsigned minor_number = 0;
    char colon = 0;
    std::istringstream parts(number);
    if (!(parts >> major_number >> colon >> minor_number)) continue;
    if (!devices.contains(makedev(major_number, minor_number))) continue;
    const bool writing = options.substr(0, options.find(',')) == "rw";
    (writing ? facts.mounted_for_writing : facts.mounted_for_reading).push_back(point);
  }
}

void add_swap(const std::set<dev_t>& devices, DeviceFacts& facts) {
  std::ifstream in("/proc/swaps");
  for (std::string line; std::getline(in, line);) {
    const std::string path = line.substr(0, line.find_first_of(" \t"));
    struct stat status {};
    if (::stat(path.c_str(), &status) == 0 && S_ISBLK(status.st_mode) &&
        devices.contains(status.st_rdev)) {
      facts.swap.push_back(path);
    }
  }
}

}  // namespace

std::optional<DeviceFacts> examine_device(const std::string& path) {
  struct stat status {};
  if (::stat(path.c_str(), &status) != 0 || !S_ISBLK(status.st_mode)) return std::nullopt;
  DeviceFacts facts;
  const fs::path sysfs = sysfs_of(status.st_rdev);
  if (sysfs.empty()) return facts;
  const fs::path disk = fs::exists(sysfs / "partition") ? sysfs.parent_path() : sysfs;
  facts.model = first_line(disk / "device/model");
  facts.removable = first_line(disk / "removable") == "1";
  facts.rotating = first_line(disk / "queue/rotational") == "1";
  const std::string discard = first_line(disk / "queue/discard_max_bytes");
  facts.discards = !discard.empty() && discard != "0";
  const std::set<dev_t> devices = with_partitions(status.st_rdev, sysfs);
  add_mounts(devices, facts);
  add_swap(devices, facts);
  for (const dev_t device : devices) {
    for (const fs::path& holder : entries_of(sysfs_of(device) / "holders")) {
      facts.holders.push_back(holder.filename().string());
    }
  }
  return facts;
}

Foundation foundation_of(dev_t device) {
  constexpr size_t kMostDevices = 256;
  Foundation found;
  std::vector<dev_t> open = {device};
  while (!open.empty() && found.devices.size() < kMostDevices) {
    const dev_t next = open.back();
    open.pop_back();
    if (!found.devices.insert(next).second) continue;
    const fs::path sysfs = sysfs_of(next);
    if (sysfs.empty()) continue;
    for (const dev_t disk : disk_of(next)) open.push_back(disk);
    for (const fs::path& slave : entries_of(sysfs / "slaves")) {
      if (const auto number = number_in(slave)) open.push_back(*number);
    }
    struct stat status {};
    const std::string backing = first_line(sysfs / "loop/backing_file");
    if (!backing.empty() && ::stat(backing.c_str(), &status) == 0) {
      found.files.emplace(status.st_dev, status.st_ino);
      open.push_back(S_ISBLK(status.st_mode) ? status.st_rdev : status.st_dev);
    }
  }
  return found;
}

std::set<dev_t> disk_of(dev_t device) {
  std::set<dev_t> devices = {device};
  const fs::path sysfs = sysfs_of(device);
  if (!sysfs.empty() && fs::exists(sysfs / "partition")) {
    if (const auto disk = number_in(sysfs.parent_path())) devices.insert(*disk);
  }
  return devices;
}

}  // namespace undershelf
