// Read-only access to the bytes of a source.
#pragma once

#include <cstddef>
#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "model/range.h"

namespace undershelf {

struct BadRange : ByteRange {
  bool unread = false;  // nobody tried it yet: an image whose medium was not read to its end
  bool operator==(const BadRange&) const = default;
};

// What a read could not get. Empty when all went well (and then nothing was allocated).
struct ReadResult {
  std::vector<BadRange> bad;  // in bytes of the source that was asked, in order, not overlapping
  bool ok() const { return bad.empty(); }
};

// A source never changes and is never written. All members may be called from several threads.
class Source {
 public:
  virtual ~Source() = default;
  virtual uint64_t size() const = 0;         // bytes
  virtual uint32_t sector_size() const = 0;  // bytes: 512 or 4096, as the medium reports it
  // Fills `out` from `offset` on. What cannot be read, or lies past the end, is filled with zeros
  // and returned as bad. A failing range is narrowed down to single sectors.
  virtual ReadResult read(uint64_t offset, std::span<std::byte> out) const = 0;
  // The first byte from `offset` on that may be other than zero: an image's holes need not be read.
  // `offset` itself where that is not known.
  virtual uint64_t next_data(uint64_t offset) const { return offset; }
  // Bytes that reads were refused so far, each counted once.
  virtual uint64_t refused() const { return 0; }
  // What is known not to be there without reading, in order, not overlapping: of an image with its
  // ledger. It does not change.
  virtual std::span<const BadRange> gaps() const { return {}; }
};

using SourcePtr = std::shared_ptr<const Source>;

// Bytes of its gaps.
uint64_t gaps_length(const Source& source);

// Adds a range behind the others, joining it to the last one where it goes on with that.
void add_bad(ReadResult& result, const BadRange& range);

// Reads a structure of the disk, one without padding, at byte `offset`. False if any of it cannot
// be read, which is then zero.
template <typename T>
bool read_at(const Source& source, uint64_t offset, T& structure) {
  return source.read(offset, std::as_writable_bytes(std::span(&structure, 1))).ok();
}

// Opens an image file, with its ledger if it has one, the first segment of a split image, a block
// device or a network block device, and leaves out `skip` bytes at its start. With `through`, an
// image that is or will be a copy of it, what that has is read from there, and what is read is kept
// there (source/through.h). Throws Error (unavailable) if there is none, it is a folder, empty, or
// may not be read.
SourcePtr open_source(const std::string& path, uint64_t skip = 0, const std::string& through = {});

// A part of another source, as a source: bytes from `offset` on, `length` of them. The part may
// reach past the end of what it lies in; those bytes read as bad.
class Window : public Source {
 public:
  Window(SourcePtr base, uint64_t offset, uint64_t length);
  uint64_t size() const override { return length_; }
  uint32_t sector_size() const override { return base_->sector_size(); }
  ReadResult read(uint64_t offset, std::span<std::byte> out) const override;
  uint64_t next_data(uint64_t offset) const override {
    return std::min(base_->next_data(offset_ + offset) - offset_, std::max(offset, length_));
  }
  uint64_t refused() const override { return base_->refused(); }
  std::span<const BadRange> gaps() const override { return gaps_; }
  uint64_t offset() const { return offset_; }  // bytes, in what it lies in

 private:
  SourcePtr base_;
  uint64_t offset_;
  uint64_t length_;
  std::vector<BadRange> gaps_;
};

}  // namespace undershelf
