// Which bytes of a space are taken, and what follows a start in what is free.
#pragma once

#include <cstdint>
#include <span>
#include <vector>

#include "model/pieces.h"
#include "model/range.h"
#include "source/source.h"

namespace undershelf::carving {

// A set of ranges of a space. Not to be changed while others read it.
class Taken {
 public:
  void add(const ByteRange& range) { ranges_.push_back(range); }
  // To be called after the last add, and before anything is asked.
  void settle();

  bool contains(uint64_t offset) const;
  // The first range that ends behind `offset`; one of length 0 if there is none.
  ByteRange at_or_after(uint64_t offset) const;
  // Bytes of the pieces, which are ranges of the space, up to the first that is taken.
  uint64_t free_of(const Pieces& pieces) const;
  // Bytes from `from` to `end` that are not taken.
  uint64_t free_between(uint64_t from, uint64_t end) const;

 private:
  std::vector<ByteRange>::const_iterator find(uint64_t offset) const;
  std::vector<ByteRange> ranges_;  // once settled: disjoint, in order
  std::vector<uint64_t> before_;   // bytes in all ranges before each
};

// The bytes of a space from `start` to `end` that are not taken, as if they followed each other.
class FreeBytes {
 public:
  // `source`, `taken`: must outlive it.
  FreeBytes(const Source& source, const Taken& taken, uint64_t start, uint64_t end)
      : FreeBytes(source, taken, {}, start, end) {}
  // Those of `own` first, which are ranges and may be taken, then what is free behind byte
  // `behind`.
  FreeBytes(const Source& source, const Taken& taken, const Pieces& own, uint64_t behind,
            uint64_t end);

  uint64_t size() const { return size_; }
  // Fills `out` from byte `at` of them on. Returns how many there are before the end, or before
  // what cannot be read.
  size_t read(uint64_t at, std::span<std::byte> out);
  // Where those from byte `from` to byte `to` of them lie; at the end of `pieces`.
  void add_pieces(uint64_t from, uint64_t to, Pieces& pieces);
  // The byte of the space that is byte `at` of them.
  uint64_t place_of(uint64_t at);

 private:
  struct Part {
    uint64_t at = 0;  // byte of them
    ByteRange range;  // of the space
  };
  // Adds parts until byte `at` lies in one; false if there are no more.
  bool reach(uint64_t at);
  std::vector<Part>::const_iterator part_of(uint64_t at) const;

  const Source& source_;
  const Taken& taken_;
  uint64_t next_;  // byte of the space up to which parts were made
  const uint64_t end_;
  const uint64_t size_;
  std::vector<Part> parts_;
};

}  // namespace undershelf::carving
