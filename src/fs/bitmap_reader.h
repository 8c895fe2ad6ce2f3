// What the readers of all file systems are: one that knows by a bit a cluster what is in use now.
#pragma once

#include <optional>

#include "fs/bitmap.h"
#include "fs/fs.h"

namespace undershelf {

// As for VolumeReader; what derives from it sets the members.
class BitmapReader : public VolumeReader {
 public:
  const Volume& volume() const override { return volume_; }
  ByteRange next_used(const ByteRange& within) override {
    return bitmap_ ? bitmap_->next_used(within) : ByteRange{};
  }

 protected:
  Volume volume_;
  std::optional<UseBitmap> bitmap_;  // none where that is not known
  Sink* sink_ = nullptr;             // of the read() that runs
};

}  // namespace undershelf
