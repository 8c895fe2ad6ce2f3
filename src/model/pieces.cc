#include "model/pieces.h"

#include <algorithm>
#include <limits>

#include "model/varint.h"

namespace undershelf {
namespace {

bool has_offset(Piece::Kind kind) {
  return kind == Piece::Kind::range || kind == Piece::Kind::inline_bytes;
}

}  // namespace

void append_piece(Pieces& pieces, const Piece& piece) {
  if (piece.length == 0) return;
  if (!pieces.empty() && pieces.back().kind == piece.kind &&
      (!has_offset(piece.kind) || pieces.back().offset + pieces.back().length == piece.offset)) {
    pieces.back().length += piece.length;
  } else {
    pieces.push_back(piece);
  }
}

uint64_t total_length(const Pieces& pieces) {
  uint64_t total = 0;
  for (const Piece& piece : pieces) total += piece.length;
  return total;
}

Pieces truncated(const Pieces& pieces, uint64_t length) {
  Pieces kept;
  for (Piece piece : pieces) {
    if (length == 0) break;
    piece.length = std::min(piece.length, length);
    length -= piece.length;
    kept.push_back(piece);
  }
  return kept;
}

std::string pack(const Pieces& pieces) {
  std::string out;
  uint64_t expected = 0;
  for (const Piece& piece : pieces) {
    put_varint(out, piece.length << 2 | static_cast<uint64_t>(piece.kind));
    if (has_offset(piece.kind)) {
      put_varint(out, zigzag(piece.offset - expected));
      expected = piece.offset + piece.length;
    }
  }
  return out;
}

std::optional<Pieces> unpack(std::string_view packed) {
  constexpr uint64_t kMost = std::numeric_limits<int64_t>::max();
  Pieces pieces;
  uint64_t expected = 0;
  uint64_t total = 0;
  while (!packed.empty()) {
    uint64_t head = 0;
    if (!take_varint(packed, head)) return std::nullopt;
    Piece piece{static_cast<Piece::Kind>(head & 3), 0, head >> 2};
    if (has_offset(piece.kind)) {
      uint64_t difference = 0;
      if (!take_varint(packed, difference)) return std::nullopt;
      piece.offset = expected + from_zigzag(difference);
      if (piece.offset > kMost) return std::nullopt;
      expected = piece.offset + piece.length;
    }
    total += piece.length;
    if (total > kMost) return std::nullopt;
    pieces.push_back(piece);
  }
  return pieces;
}

}  // namespace undershelf
