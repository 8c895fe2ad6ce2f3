// A file allocation table as a bitmap: bit n, the least of a byte first, is set where cluster n + 2
// is in use or bad. So one reader of bitmaps (fs/bitmap.h) serves all file systems.
#pragma once

#include "fs/fat/geometry.h"
#include "source/source.h"

namespace undershelf::fat {

class TableBits : public Source {
 public:
  // Of FAT number `copy` of the volume. What cannot be read of it counts as free.
  TableBits(SourcePtr volume, const Geometry& geometry, unsigned copy);
  uint64_t size() const override;  // bytes of the bitmap; as far as the table itself reaches
  uint32_t sector_size() const override { return volume_->sector_size(); }
  // Reads the table's part that the bits stand for: 16 or 32 bytes a byte. Any range.
  ReadResult read(uint64_t offset, std::span<std::byte> out) const override;

 private:
  SourcePtr volume_;
  Type type_;
  uint64_t begin_;     // byte of the volume of the table
  uint64_t clusters_;  // that it tells of
};

}  // namespace undershelf::fat
