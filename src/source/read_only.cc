#include "source/read_only.h"

#include <linux/fs.h>
#include <sys/ioctl.h>

#include "source/device.h"

namespace undershelf {

KeptReadOnly::KeptReadOnly(int descriptor, const std::string& path) {
  int is_set = 0;
  if (::ioctl(descriptor, BLKROGET, &is_set) != 0 || is_set != 0) return;
  const SourceUse use = use_of(path);
  if (!use.mounted_for_writing.empty() || !use.swap.empty() || !use.holders.empty()) return;
  const int set = 1;
  if (::ioctl(descriptor, BLKROSET, &set) == 0) descriptor_ = descriptor;
}

KeptReadOnly::~KeptReadOnly() {
  const int clear = 0;
  if (descriptor_ >= 0) ::ioctl(descriptor_, BLKROSET, &clear);
}

}  // namespace undershelf
