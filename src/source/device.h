// Block devices: what the system knows of them, what uses them, and what lies on what.
#pragma once

#include <sys/stat.h>
#include <sys/types.h>

#include <optional>
#include <set>
#include <string>
#include <utility>
#include <vector>

namespace undershelf {

// What uses a source now: the device itself, its partitions, what is built on those (volume groups,
// arrays, mappings), and loop devices over it.
struct SourceUse {
  std::vector<std::string> mounted_for_writing;  // mount points
  std::vector<std::string> mounted_for_reading;  // likewise
  std::vector<std::string> swap;                 // device files in use as swap
  std::vector<std::string> holders;              // names of devices built on it
};

// What /sys and /proc tell of what uses the block device or the image file at `path`.
SourceUse use_of(const std::string& path);

struct DeviceFacts {
  std::string model;   // may be empty
  std::string serial;  // likewise
  bool removable = false;
  bool rotating = false;
  bool discards = false;  // takes requests to discard blocks
};

// What /sys tells of the block device at `path`, or of its disk; nothing if it is none.
std::optional<DeviceFacts> examine_device(const std::string& path);

// What a file lies on in the end: the devices of its file system, the disks these are partitions
// of, what they are mapped to, and, where one is a loop device, the image file (device and inode)
// and what that lies on.
struct Foundation {
  std::set<dev_t> devices;
  std::set<std::pair<dev_t, ino_t>> files;
};
Foundation foundation_of(const std::string& path);

// Where the bytes of a source itself lie, which is a plain file or a block device: the file; or the
// device, what that is mapped to, the disks of all of these, and what loop devices among them are
// over. Not what a file lies on in turn: others may lie there as well.
Foundation content_of_source(const struct stat& source);

// Whether what lies on one may lie on the other.
bool meets(const Foundation& one, const Foundation& other);

}  // namespace undershelf
