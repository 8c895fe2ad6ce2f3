// The parts a stream is made of, and their packed form in the shelf.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace undershelf {

struct Piece {
  enum class Kind : uint8_t {
    range = 0,         // bytes of the space, from `offset`
    zeros = 1,         // reads as zeros: sparse, or past the valid size
    unknown = 2,       // the stream had bytes here; where they lie is not known
    inline_bytes = 3,  // bytes of the stream's inline data, from `offset`
  };
  Kind kind = Kind::range;
  uint64_t offset = 0;  // bytes; of the space (range) or of the inline data (inline_bytes)
  uint64_t length = 0;  // bytes
  bool operator==(const Piece&) const = default;
};

using Pieces = std::vector<Piece>;

// Adds a piece, joining it to the last one where it continues that one. Length 0 adds nothing.
void append_piece(Pieces& pieces, const Piece& piece);

// Sum of the lengths, in bytes.
uint64_t total_length(const Pieces& pieces);

// The first `length` bytes of the stream; pieces behind it are dropped.
Pieces truncated(const Pieces& pieces, uint64_t length);

// Packed form (docs/shelf.md, "Pieces"): for each piece a varint of length * 4 + kind, then, for
// kinds with an offset, a varint of the zigzag difference to the end of the last such piece.
std::string pack(const Pieces& pieces);

// Nothing if `packed` is not the packed form of pieces, or lengths add up to more than 2^63.
std::optional<Pieces> unpack(std::string_view packed);

}  // namespace undershelf
