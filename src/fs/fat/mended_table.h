// One FAT out of the copies there are: where a part of the one that is kept up to date cannot be
// one, the other's is taken.
#pragma once

#include "fs/fat/geometry.h"
#include "source/source.h"

namespace undershelf::fat {

// FAT specification, "FAT Data Structure": entries of a FAT are 0, a cluster of the volume, the
// mark of a bad one, or that of an end. It is read in parts of a sector (FAT12, whose entries lie
// across sectors: as a whole, of at most 6 KiB), each from the first copy in which no more than a
// few entries are none of these, and which is not all of one mark. Bytes are those of one FAT. From
// any thread.
class MendedTable : public Source {
 public:
  MendedTable(SourcePtr volume, const Geometry& geometry);
  uint64_t size() const override { return geometry_.fat_size; }
  uint32_t sector_size() const override { return volume_->sector_size(); }
  ReadResult read(uint64_t offset, std::span<std::byte> out) const override;

 private:
  size_t faults(uint64_t offset, std::span<const std::byte> part) const;
  bool mend(uint64_t offset, std::span<std::byte> part, bool is_readable) const;
  SourcePtr volume_;
  Geometry geometry_;
  uint64_t part_;  // bytes that are judged together
};

// An entry of a FAT as it stands in `bytes`, which begin with its first byte. `cluster`: which one.
uint32_t entry_at(const std::byte* bytes, Type type, uint64_t cluster);

}  // namespace undershelf::fat
