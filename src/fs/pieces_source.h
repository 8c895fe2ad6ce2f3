// A stream that lies in pieces, as a source: metadata files ($MFT, bitmaps, B-trees) are read
// through this.
#pragma once

#include <vector>

#include "model/pieces.h"
#include "source/source.h"

namespace undershelf {

class PiecesSource : public Source {
 public:
  // `pieces` are places on `base`; bytes whose place is not known read as bad. `size` in bytes:
  // pieces behind it are not read, and what they do not cover is bad.
  PiecesSource(SourcePtr base, const Pieces& pieces, uint64_t size);
  uint64_t size() const override { return size_; }
  uint32_t sector_size() const override { return base_->sector_size(); }
  ReadResult read(uint64_t offset, std::span<std::byte> out) const override;
  // The first byte from `offset` on that is stored somewhere; far behind the end if none is.
  uint64_t next_stored(uint64_t offset) const;
  // Where a byte of the stream lies on the base; nothing if that is not known, or it is zeros.
  std::optional<uint64_t> place_of(uint64_t offset) const;

 private:
  struct Part {
    uint64_t at;  // byte of the stream
    Piece piece;
  };
  std::vector<Part>::const_iterator part_at(uint64_t offset) const;

  SourcePtr base_;
  std::vector<Part> parts_;
  uint64_t size_;
};

}  // namespace undershelf
