// A file allocation table as a bitmap: bit n, the least of a byte first, is set where cluster n + 2
// is in use or bad. So one reader of bitmaps (fs/bitmap.h) serves all file systems.
#pragma once

#include "fs/fat/geometry.h"
#include "fs/fat/mended_table.h"
#include "source/source.h"

namespace undershelf::fat {

class TableBits : public Source {
 public:
  // Of the FAT of the volume (mended_table.h). What cannot be read of it counts as free.
  TableBits(const SourcePtr& volume, const Geometry& geometry);
  uint64_t size() const override;  // bytes of the bitmap; as far as the table itself reaches
  uint32_t sector_size() const override { return table_.sector_size(); }
  // Reads the table's part that the bits stand for: 16 or 32 bytes a byte. Any range.
  ReadResult read(uint64_t offset, std::span<std::byte> out) const override;

 private:
  MendedTable table_;
  Type type_;
  uint64_t clusters_;  // that it tells of
};

}  // namespace undershelf::fat
