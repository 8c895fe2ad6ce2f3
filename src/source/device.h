// Block devices: what the system knows of them, and what lies on what.
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <optional>
#include <set>
#include <string>
#include <utility>
#include <vector>

namespace undershelf {

struct DeviceFacts {
  std::string model;  // may be empty
  bool removable = false;
  bool rotating = false;
  bool discards = false;  // takes requests to discard blocks
  // Of the device and its partitions: where volumes are mounted, and what else uses them.
  std::vector<std::string> mounted_for_writing;
  std::vector<std::string> mounted_for_reading;
  std::vector<std::string> swap;     // device files in use as swap
  std::vector<std::string> holders;  // devices built on it: volume groups, arrays, encryption
};

// What /sys and /proc tell of the block device at `path`; nothing if it is none.
std::optional<DeviceFacts> examine_device(const std::string& path);

// What a file on device `device` lies on in the end: the device itself, the disk it is a partition
// of, what it is mapped to, and, where that is a loop device, the image file (device and inode).
struct Foundation {
  std::set<dev_t> devices;
  std::set<std::pair<dev_t, ino_t>> files;
};
Foundation foundation_of(dev_t device);

// The device itself and, if it is a partition, its disk.
std::set<dev_t> disk_of(dev_t device);

}  // namespace undershelf
