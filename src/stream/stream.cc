#include "stream/stream.h"

#include <algorithm>
#include <array>
#include <cstring>

namespace undershelf {

std::string_view to_text(Hole::Why why) {
  constexpr std::array<std::string_view, 3> kTexts = {"unreadable", "overwritten", "unknown"};
  return kTexts[static_cast<size_t>(why)];
}

void append_hole(std::vector<Hole>& holes, const Hole& hole) {
  if (hole.length == 0) return;
  if (!holes.empty() && holes.back().why == hole.why &&
      holes.back().offset + holes.back().length == hole.offset) {
    holes.back().length += hole.length;
  } else {
    holes.push_back(hole);
  }
}

StreamReader::StreamReader(SourcePtr source, const Pieces& pieces, std::string inline_data,
                           uint64_t size, uint64_t valid_size,
                           const std::vector<ByteRange>& overwritten)
    : source_(std::move(source)), inline_data_(std::move(inline_data)), size_(size) {
  const uint64_t valid = std::min(size, valid_size);
  for (Piece piece : truncated(pieces, valid)) {
    if (piece.kind != Piece::Kind::range) {
      add_part(piece, Hole::Why::unknown);
      continue;
    }
    // Cut what is overwritten out of the piece.
    for (const ByteRange& range : overwritten) {
      const ByteRange shared = overlap(range, {piece.offset, piece.length});
      if (shared.length == 0) continue;
      const uint64_t before = shared.offset - piece.offset;
      add_part({Piece::Kind::range, piece.offset, before}, Hole::Why::unknown);
      add_part({Piece::Kind::unknown, 0, shared.length}, Hole::Why::overwritten);
      piece.offset += before + shared.length;
      piece.length -= before + shared.length;
    }
    add_part(piece, Hole::Why::unknown);
  }
  add_part({Piece::Kind::unknown, 0, valid - std::min(valid, planned_)}, Hole::Why::unknown);
  add_part({Piece::Kind::zeros, 0, size - valid}, Hole::Why::unknown);
}

void StreamReader::add_part(const Piece& piece, Hole::Why why) {
  if (piece.length == 0) return;
  if (piece.kind == Piece::Kind::unknown) append_hole(holes_, {planned_, piece.length, why});
  parts_.push_back({planned_, piece});
  planned_ += piece.length;
}

std::vector<Hole> StreamReader::read(uint64_t offset, std::span<std::byte> out) const {
  std::vector<Hole> unreadable;
  std::ranges::fill(out, std::byte{0});
  auto part = std::ranges::partition_point(
      parts_, [&](const Part& p) { return p.at + p.piece.length <= offset; });
  for (; part != parts_.end() && part->at < offset + out.size(); ++part) {
    const ByteRange shared = overlap({part->at, part->piece.length}, {offset, out.size()});
    const uint64_t from = part->piece.offset + (shared.offset - part->at);
    const auto target = out.subspan(shared.offset - offset, shared.length);
    if (part->piece.kind == Piece::Kind::inline_bytes) {
      if (from < inline_data_.size()) {
        std::memcpy(target.data(), inline_data_.data() + from,
                    std::min<uint64_t>(target.size(), inline_data_.size() - from));
      }
    } else if (part->piece.kind == Piece::Kind::range) {
      for (const ByteRange& bad : source_->read(from, target).bad) {
        append_hole(unreadable,
                    {shared.offset + (bad.offset - from), bad.length, Hole::Why::unreadable});
      }
    }
  }
  return unreadable;
}

}  // namespace undershelf
