// Any stream as a bounded logical reader. Everything that looks at content goes through here.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "model/entry.h"
#include "source/source.h"

namespace undershelf {

// Bytes of a stream that are not the original ones. They are filled with zeros.
struct Hole {
  enum class Why : uint8_t { unreadable, overwritten, unknown, undecodable };
  uint64_t offset = 0;  // bytes, in the stream
  uint64_t length = 0;  // bytes
  Why why = Why::unknown;
  bool operator==(const Hole&) const = default;
};

std::string_view to_text(Hole::Why why);

// Adds a hole, joining it to the last one where it continues that one.
void append_hole(std::vector<Hole>& holes, const Hole& hole);

// How a stream is stored; see Stream.
struct Storage {
  Codec codec = Codec::none;
  uint64_t unit = 0;  // bytes
};

// May be called from several threads.
class StreamReader {
 public:
  // Pieces need not cover `size`, nor stop at it: what is missing is a hole, what is behind is
  // never read. Bytes from `valid_size` on read as zeros and are no holes. `overwritten` are
  // ranges of the source that hold something else now.
  StreamReader(SourcePtr source, const Pieces& pieces, std::string inline_data, uint64_t size,
               uint64_t valid_size, const std::vector<ByteRange>& overwritten,
               const Storage& storage = {});

  uint64_t size() const { return size_; }  // bytes
  // The holes that are known without reading, in order. None of a compressed stream are.
  const std::vector<Hole>& known_holes() const { return holes_; }
  // Fills `out` with the bytes from `offset` on, zeros in holes and behind the end. Returns what
  // turned out to be unreadable; of a compressed stream, all holes, in whole units.
  std::vector<Hole> read(uint64_t offset, std::span<std::byte> out) const;

 private:
  struct Part {
    uint64_t at;  // byte of the stream, or of what is stored of a compressed one
    Piece piece;
    Hole::Why why;  // of unknown pieces
  };
  std::vector<Part>::const_iterator part_at(uint64_t offset) const;
  void add_part(const Piece& piece, Hole::Why why);
  std::vector<Hole> read_stored(uint64_t offset, std::span<std::byte> out) const;
  // The first reason why stored bytes are not there, if any is known.
  std::optional<Hole::Why> missing_in(const ByteRange& stored) const;
  // Decodes one unit to `out`; says why if that fails.
  std::optional<Hole::Why> decode_unit(uint64_t unit, std::span<std::byte> out) const;
  std::optional<Hole::Why> decode_in_place(uint64_t unit, std::span<std::byte> out) const;
  std::optional<Hole::Why> decode_chunk(uint64_t unit, std::span<std::byte> out) const;
  std::optional<Hole::Why> decode_block(uint64_t unit, std::span<std::byte> out) const;
  std::optional<Hole::Why> load(const ByteRange& stored, std::vector<std::byte>& bytes) const;

  SourcePtr source_;
  std::vector<Part> parts_;  // in order, without gaps; covering the stream if it is plain
  std::string inline_data_;
  uint64_t size_;
  uint64_t valid_size_;
  Storage storage_;
  uint64_t planned_ = 0;
  std::vector<Hole> holes_;
};

}  // namespace undershelf
