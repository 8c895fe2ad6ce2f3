// What the index of a folder names: in use, and left behind in its free parts.
#pragma once

#include <functional>
#include <string>

#include "fs/ntfs/file.h"
#include "fs/ntfs/geometry.h"
#include "fs/ntfs/index.h"
#include "source/source.h"

namespace undershelf::ntfs {

class FolderIndex {
 public:
  // Bytes of the space, and what is wrong there.
  using Report = std::function<void(const ByteRange&, std::string)>;

  // `geometry` must outlive it.
  FolderIndex(SourcePtr source, const Geometry& geometry, Report report, Sight sight)
      : source_(std::move(source)),
        geometry_(geometry),
        report_(std::move(report)),
        sight_(std::move(sight)) {}

  // The node in the folder's own record, and what stands behind the record's last attribute.
  // `place`: of the record, byte of the space.
  void read_record(const Record& record, uint64_t number, uint64_t place) const;
  // The blocks of a folder's index. `live`: its record is in use.
  void read_blocks(const File& file, bool live) const;

 private:
  void read_block(std::span<std::byte> block, uint64_t number, const File& file, bool live,
                  uint64_t place) const;

  SourcePtr source_;
  const Geometry& geometry_;
  Report report_;
  Sight sight_;
};

}  // namespace undershelf::ntfs
