// What is mounted, as proc_pid_mountinfo(5) tells it.
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <set>
#include <string>
#include <vector>

namespace undershelf {

struct Mount {
  uint64_t id = 0;
  dev_t device = 0;  // st_dev of its files; of no block device where the file system has its own
  std::string source;
  std::string point;
  std::string type;
  std::string upper;      // of an overlay: the folder that takes what is written; may be empty
  bool writable = false;  // the file system, whatever this one mount of it allows
};

// All mounts this process can see.
std::vector<Mount> mounts();

// The block devices a mounted file system lies on (an overlay: what is written to it); none if it
// lies on none.
std::set<dev_t> devices_of(const Mount& mount);

// The same of the file system that holds `path`, which exists.
std::set<dev_t> devices_below(const std::string& path);

}  // namespace undershelf
