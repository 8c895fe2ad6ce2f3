// Any stream as a bounded logical reader. Everything that looks at content goes through here.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "model/entry.h"
#include "model/loss.h"
#include "source/source.h"

namespace undershelf {

// May be called from several threads.
class StreamReader {
 public:
  // Pieces need not cover `size`, nor stop at it: what is behind is never read. Bytes from
  // `valid_size` on read as zeros, and are not lost. `losses` are what is known to be lost,
  // settled; what no piece covers is added to them.
  StreamReader(SourcePtr source, const Pieces& pieces, std::string inline_data, uint64_t size,
               uint64_t valid_size, Losses losses, const Storage& storage = {});

  uint64_t size() const { return size_; }  // bytes
  // What is lost as far as it is known without reading, settled.
  const Losses& known_losses() const { return losses_; }
  // What of it, as it is stored, the source is known not to have, in order; in bytes of the stream.
  std::vector<BadRange> gaps() const;
  // Where it is stored: the byte of the source it reads from. Nothing if it is compressed, in the
  // file system's own records, or not known.
  std::optional<uint64_t> stored_at(uint64_t offset) const;
  // Fills `out` with the bytes from `offset` on; zeros behind the end, and where what is lost is
  // filled with them. Returns what turned out to be lost besides, in order; of a compressed stream
  // in whole units.
  Losses read(uint64_t offset, std::span<std::byte> out) const;

 private:
  struct Part {
    uint64_t at;  // byte of the stream, or of what is stored of a compressed one
    Piece piece;
  };
  using Cause = Loss::Cause;
  std::vector<Part>::const_iterator part_at(uint64_t offset) const;
  void add_part(const Piece& piece);
  Losses read_stored(uint64_t offset, std::span<std::byte> out) const;
  Losses read_decoded(uint64_t offset, std::span<std::byte> out) const;
  void fill_with_zeros(uint64_t offset, std::span<std::byte> out) const;
  // The first reason why stored bytes are not there, if any is known.
  std::optional<Cause> missing_in(const ByteRange& stored) const;
  // Decodes one unit to `out`; says why if that fails.
  std::optional<Cause> decode_unit(uint64_t unit, std::span<std::byte> out) const;
  std::optional<Cause> decode_in_place(uint64_t unit, std::span<std::byte> out) const;
  std::optional<Cause> decode_chunk(uint64_t unit, std::span<std::byte> out) const;
  std::optional<Cause> decompress(std::span<const std::byte> stored,
                                  std::span<std::byte> out) const;
  std::optional<Cause> decode_block(uint64_t unit, std::span<std::byte> out) const;
  std::optional<Cause> load(const ByteRange& stored, std::vector<std::byte>& bytes) const;

  SourcePtr source_;
  std::vector<Part> parts_;  // in order, without gaps; covering the stream if it is plain
  std::string inline_data_;
  uint64_t size_;
  uint64_t valid_size_;
  Storage storage_;
  uint64_t planned_ = 0;
  Losses losses_;
};

}  // namespace undershelf
