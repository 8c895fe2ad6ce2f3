#include "fs/pieces_source.h"

#include <algorithm>

namespace undershelf {

PiecesSource::PiecesSource(SourcePtr base, const Pieces& pieces, uint64_t size)
    : base_(std::move(base)), size_(size) {
  uint64_t at = 0;
  for (const Piece& piece : truncated(pieces, size)) {
    parts_.push_back({at, piece});
    at += piece.length;
  }
  if (at < size) parts_.push_back({at, {Piece::Kind::unknown, 0, size - at}});
}

std::vector<PiecesSource::Part>::const_iterator PiecesSource::part_at(uint64_t offset) const {
  return std::ranges::partition_point(
      parts_, [&](const Part& part) { return part.at + part.piece.length <= offset; });
}

ReadResult PiecesSource::read(uint64_t offset, std::span<std::byte> out) const {
  ReadResult result;
  std::ranges::fill(out, std::byte{0});
  const ByteRange wanted{offset, out.size()};
  for (auto part = part_at(offset); part != parts_.end() && part->at < wanted.end(); ++part) {
    const ByteRange shared = overlap({part->at, part->piece.length}, wanted);
    const auto target = out.subspan(shared.offset - offset, shared.length);
    if (part->piece.kind == Piece::Kind::zeros) continue;
    if (part->piece.kind != Piece::Kind::range) {
      add_bad(result, {shared});
      continue;
    }
    const uint64_t from = part->piece.offset + (shared.offset - part->at);
    for (const BadRange& bad : base_->read(from, target).bad) {
      add_bad(result, {{shared.offset + (bad.offset - from), bad.length}, bad.unread});
    }
  }
  const uint64_t inside = std::max(offset, std::min(size_, wanted.end()));
  add_bad(result, {{inside, wanted.end() - inside}});
  return result;
}

uint64_t PiecesSource::next_stored(uint64_t offset) const {
  auto part = part_at(offset);
  while (part != parts_.end() && part->piece.kind != Piece::Kind::range) ++part;
  return part == parts_.end() ? UINT64_MAX / 2 : std::max(offset, part->at);
}

std::optional<uint64_t> PiecesSource::place_of(uint64_t offset) const {
  const auto part = part_at(offset);
  if (part == parts_.end() || part->piece.kind != Piece::Kind::range) return std::nullopt;
  return part->piece.offset + (offset - part->at);
}

}  // namespace undershelf
