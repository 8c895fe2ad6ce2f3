#include "source/device.h"

#include <sys/stat.h>

#include <algorithm>
#include <fstream>
#include <iterator>

#include "source/mounts.h"
#include "source/split.h"
#include "source/sysfs.h"

namespace undershelf {
namespace {

namespace fs = std::filesystem;

constexpr size_t kMostDevices = 4096;  // looked at in a row; far more than a machine has

void add_numbers_in(const fs::path& folder, std::vector<dev_t>& numbers) {
  for (const fs::path& entry : entries_of(folder)) {
    if (const auto number = device_number(first_line(entry / "dev"))) numbers.push_back(*number);
  }
}

// `devices` and all that `next_of` leads to from them.
template <typename Next>
std::set<dev_t> reach(std::vector<dev_t> devices, Next next_of) {
  std::set<dev_t> reached;
  while (!devices.empty() && reached.size() < kMostDevices) {
    const dev_t device = devices.back();
    devices.pop_back();
    if (!reached.insert(device).second) continue;
    const fs::path sysfs = sysfs_of(device);
    if (!sysfs.empty()) next_of(sysfs, devices);
  }
  return reached;
}

void add_below(const fs::path& sysfs, std::vector<dev_t>& devices) {
  if (fs::exists(sysfs / "partition")) {
    if (const auto disk = device_number(first_line(sysfs.parent_path() / "dev"))) {
      devices.push_back(*disk);
    }
  }
  add_numbers_in(sysfs / "slaves", devices);
}

// The loop devices whose content is one of these files or devices.
std::vector<dev_t> loops_over(const std::vector<struct stat>& files) {
  std::vector<dev_t> loops;
  for (const fs::path& device : entries_of("/sys/block")) {
    const std::string backing = first_line(device / "loop/backing_file");
    struct stat status {};
    if (backing.empty() || ::stat(backing.c_str(), &status) != 0) continue;
    const bool ours = std::ranges::any_of(files, [&](const struct stat& file) {
      return S_ISBLK(file.st_mode) ? S_ISBLK(status.st_mode) && file.st_rdev == status.st_rdev
                                   : file.st_dev == status.st_dev && file.st_ino == status.st_ino;
    });
    if (!ours) continue;
    if (const auto number = device_number(first_line(device / "dev"))) loops.push_back(*number);
  }
  return loops;
}

// SCSI Primary Commands, "Unit Serial Number VPD page": behind a head of four bytes.
std::string unit_serial(const fs::path& page) {
  std::ifstream file(page, std::ios::binary);
  std::string bytes(std::istreambuf_iterator<char>(file), {});
  bytes.erase(0, 4);
  const auto is_plain = [](char c) { return c > ' ' && c < 127; };
  std::erase_if(bytes, [&](char c) { return !is_plain(c); });
  return bytes;
}

// The files or devices a source consists of; none if there is none.
std::vector<struct stat> parts_of(const std::string& path) {
  std::vector<struct stat> parts;
  for (const std::string& segment : segments_of(path)) {
    struct stat status {};
    if (::stat(segment.c_str(), &status) == 0) parts.push_back(status);
  }
  return parts;
}

void add_mounts(const std::set<dev_t>& devices, SourceUse& use) {
  for (const Mount& mount : mounts()) {
    const bool on_it = std::ranges::any_of(devices_of(mount),
                                           [&](dev_t device) { return devices.contains(device); });
    if (!on_it) continue;
    (mount.writable ? use.mounted_for_writing : use.mounted_for_reading).push_back(mount.point);
  }
}

void add_swap(const std::set<dev_t>& devices, SourceUse& use) {
  std::ifstream in("/proc/swaps");
  for (std::string line; std::getline(in, line);) {
    const std::string path = line.substr(0, line.find_first_of(" \t"));
    if (const auto number = block_device_at(path); number && devices.contains(*number)) {
      use.swap.push_back(path);
    }
  }
}

}  // namespace

SourceUse use_of(const std::string& path) {
  SourceUse use;
  const std::vector<struct stat> parts = parts_of(path);
  std::vector<dev_t> first = loops_over(parts);
  for (const struct stat& part : parts) {
    if (S_ISBLK(part.st_mode)) first.push_back(part.st_rdev);
  }
  std::set<std::string> holders;
  const std::set<dev_t> devices = reach(first, [&](const fs::path& sysfs, auto& open) {
    for (const fs::path& entry : entries_of(sysfs)) {
      const auto number = device_number(first_line(entry / "dev"));
      if (number && fs::exists(entry / "partition")) open.push_back(*number);
    }
    for (const fs::path& holder : entries_of(sysfs / "holders")) {
      holders.insert(holder.filename());
    }
    add_numbers_in(sysfs / "holders", open);
  });
  use.holders.assign(holders.begin(), holders.end());
  add_mounts(devices, use);
  add_swap(devices, use);
  return use;
}

std::optional<DeviceFacts> examine_device(const std::string& path) {
  const auto number = block_device_at(path);
  if (!number) return std::nullopt;
  DeviceFacts facts;
  const fs::path sysfs = sysfs_of(*number);
  if (sysfs.empty()) return facts;
  const fs::path disk = fs::exists(sysfs / "partition") ? sysfs.parent_path() : sysfs;
  facts.model = first_line(disk / "device/model");
  facts.serial = first_line(disk / "device/serial");
  if (facts.serial.empty()) facts.serial = first_line(disk / "serial");
  if (facts.serial.empty()) facts.serial = unit_serial(disk / "device/vpd_pg80");
  facts.removable = first_line(disk / "removable") == "1";
  facts.rotating = first_line(disk / "queue/rotational") == "1";
  const std::string discard = first_line(disk / "queue/discard_max_bytes");
  facts.discards = !discard.empty() && discard != "0";
  return facts;
}

namespace {

// All that `devices` lie on: disks, what they are mapped to, and, where one is a loop device, the
// file it is over. `below_file` is told of each such file by its path.
template <typename BelowFile>
Foundation all_below(std::vector<dev_t> devices, BelowFile below_file) {
  Foundation found;
  found.devices = reach(std::move(devices), [&](const fs::path& sysfs, auto& open) {
    add_below(sysfs, open);
    struct stat status {};
    const std::string backing = first_line(sysfs / "loop/backing_file");
    if (backing.empty() || ::stat(backing.c_str(), &status) != 0) return;
    if (S_ISBLK(status.st_mode)) {
      open.push_back(status.st_rdev);
      return;
    }
    found.files.emplace(status.st_dev, status.st_ino);
    below_file(backing, open);
  });
  return found;
}

}  // namespace

Foundation foundation_of(const std::string& path) {
  const std::set<dev_t> first = devices_below(path);
  return all_below({first.begin(), first.end()}, [](const std::string& file, auto& open) {
    for (const dev_t device : devices_below(file)) open.push_back(device);
  });
}

Foundation content_of_source(const struct stat& source) {
  if (S_ISBLK(source.st_mode)) return all_below({source.st_rdev}, [](const auto&, auto&) {});
  Foundation found;
  found.files.emplace(source.st_dev, source.st_ino);
  return found;
}

bool meets(const Foundation& one, const Foundation& other) {
  return std::ranges::any_of(one.devices,
                             [&](dev_t device) { return other.devices.contains(device); }) ||
         std::ranges::any_of(one.files,
                             [&](const auto& file) { return other.files.contains(file); });
}

}  // namespace undershelf
