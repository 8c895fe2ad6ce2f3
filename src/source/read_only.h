// A block device that is kept read-only by the kernel while it is read.
#pragma once

#include <string>

namespace undershelf {

// Sets the device read-only (BLKROSET) and, at its end, back to what it was. Does nothing where the
// program may not do that, where it is read-only already, and while anything on it is in use for
// writing: what uses it would fail.
class KeptReadOnly {
 public:
  // `descriptor` of the device at `path`; it must stay open longer.
  KeptReadOnly(int descriptor, const std::string& path);
  ~KeptReadOnly();
  KeptReadOnly(const KeptReadOnly&) = delete;
  KeptReadOnly& operator=(const KeptReadOnly&) = delete;

 private:
  int descriptor_ = -1;  // negative: nothing to set back
};

}  // namespace undershelf
