#include "stream/stream.h"

#include <algorithm>
#include <array>
#include <boost/endian/conversion.hpp>
#include <cstring>

#include "source/gaps.h"
#include "stream/decode.h"
#include "stream/unpacker.h"

namespace undershelf {

StreamReader::StreamReader(SourcePtr source, const Pieces& pieces, std::string inline_data,
                           uint64_t size, uint64_t valid_size, Losses losses,
                           const Storage& storage)
    : source_(std::move(source)),
      inline_data_(std::move(inline_data)),
      size_(size),
      valid_size_(std::min(size, valid_size)),
      storage_(storage),
      losses_(std::move(losses)) {
  const bool plain = storage.codec == Codec::none;
  const size_t known = losses_.size();
  for (const Piece& piece : plain ? truncated(pieces, valid_size_) : pieces) {
    if (plain && piece.kind == Piece::Kind::unknown) {
      losses_.push_back({planned_, piece.length, Cause::not_known});
    }
    add_part(piece);
  }
  if (!plain) return;
  if (planned_ < valid_size_) {
    losses_.push_back({planned_, valid_size_ - planned_, Cause::not_known});
    add_part({Piece::Kind::unknown, 0, valid_size_ - planned_});
  }
  add_part({Piece::Kind::zeros, 0, size - valid_size_});
  if (losses_.size() > known) losses_ = settled(losses_, size);
}

void StreamReader::add_part(const Piece& piece) {
  if (piece.length == 0) return;
  parts_.push_back({planned_, piece});
  planned_ += piece.length;
}

Losses StreamReader::read(uint64_t offset, std::span<std::byte> out) const {
  Losses found =
      storage_.codec == Codec::none ? read_stored(offset, out) : read_decoded(offset, out);
  fill_with_zeros(offset, out);
  return found;
}

void StreamReader::fill_with_zeros(uint64_t offset, std::span<std::byte> out) const {
  auto loss =
      std::ranges::partition_point(losses_, [&](const Loss& l) { return l.end() <= offset; });
  for (; loss != losses_.end() && loss->offset < offset + out.size(); ++loss) {
    if (!is_zero_filled(loss->cause) || is_met_in_reading(loss->cause)) continue;
    const ByteRange shared = overlap({loss->offset, loss->length}, {offset, out.size()});
    std::memset(out.data() + (shared.offset - offset), 0, shared.length);
  }
}

Losses StreamReader::read_decoded(uint64_t offset, std::span<std::byte> out) const {
  Losses losses;
  std::ranges::fill(out, std::byte{0});
  const uint64_t end = std::min(offset + out.size(), valid_size_);
  std::vector<std::byte> decoded(storage_.unit);
  for (uint64_t at = offset; at < end;) {
    const uint64_t unit = at / storage_.unit;
    const uint64_t begin = unit * storage_.unit;
    const uint64_t until = std::min(begin + storage_.unit, end);
    const auto target = std::span(decoded).first(std::min(storage_.unit, size_ - begin));
    if (const auto cause = decode_unit(unit, target)) {
      append_loss(losses, {at, until - at, *cause});
    } else {
      std::memcpy(out.data() + (at - offset), decoded.data() + (at - begin), until - at);
    }
    at = until;
  }
  return losses;
}

std::vector<StreamReader::Part>::const_iterator StreamReader::part_at(uint64_t offset) const {
  return std::ranges::partition_point(
      parts_, [&](const Part& p) { return p.at + p.piece.length <= offset; });
}

std::optional<uint64_t> StreamReader::stored_at(uint64_t offset) const {
  const auto part = part_at(offset);
  if (storage_.codec != Codec::none || part == parts_.end() || part->at > offset ||
      part->piece.kind != Piece::Kind::range) {
    return std::nullopt;
  }
  return part->piece.offset + (offset - part->at);
}

std::optional<Loss::Cause> StreamReader::missing_in(const ByteRange& stored) const {
  for (auto part = part_at(stored.offset); part != parts_.end() && part->at < stored.end();
       ++part) {
    if (part->piece.kind == Piece::Kind::unknown) return Cause::not_known;
  }
  if (stored.end() > planned_) return Cause::not_known;
  return std::nullopt;
}

std::optional<Loss::Cause> StreamReader::load(const ByteRange& stored,
                                              std::vector<std::byte>& bytes) const {
  if (const auto why = missing_in(stored)) return why;
  bytes.resize(stored.length);
  const Losses lost = read_stored(stored.offset, bytes);
  return lost.empty() ? std::nullopt : std::optional(lost.front().cause);
}

std::optional<Loss::Cause> StreamReader::decode_unit(uint64_t unit,
                                                     std::span<std::byte> out) const {
  if (storage_.codec == Codec::lznt1) return decode_in_place(unit, out);
  if (storage_.codec == Codec::zlib) {
    std::vector<std::byte> bytes;
    if (const auto why = load({0, planned_}, bytes)) return why;
    return decompress(bytes, out);
  }
  if (storage_.codec == Codec::zlib_blocks) return decode_block(unit, out);
  return decode_chunk(unit, out);
}

// By a library.
std::optional<Loss::Cause> StreamReader::decompress(std::span<const std::byte> stored,
                                                    std::span<std::byte> out) const {
  if (Unpacker::shared().unpack(storage_.codec, stored, out)) return std::nullopt;
  return Cause::undecodable;
}

// A unit without sparse clusters is stored as it is, one of sparse clusters only is zeros, any
// other is compressed in the clusters before the sparse ones.
std::optional<Loss::Cause> StreamReader::decode_in_place(uint64_t unit,
                                                         std::span<std::byte> out) const {
  const ByteRange range{unit * storage_.unit, storage_.unit};
  uint64_t stored = 0;
  bool sparse = false;
  for (auto part = part_at(range.offset); part != parts_.end() && part->at < range.end(); ++part) {
    if (part->piece.kind == Piece::Kind::zeros) sparse = true;
    if (!sparse) stored += overlap({part->at, part->piece.length}, range).length;
  }
  std::vector<std::byte> bytes;
  if (sparse && stored == 0) {
    std::ranges::fill(out, std::byte{0});
    return missing_in({range.offset, std::min<uint64_t>(out.size(), planned_ - range.offset)});
  }
  if (const auto why = load({range.offset, sparse ? stored : out.size()}, bytes)) return why;
  if (!sparse) {
    std::ranges::copy(bytes, out.begin());
    return std::nullopt;
  }
  if (!decode_lznt1(bytes, out)) return Cause::undecodable;
  return std::nullopt;
}

// [MS-XCA] data in chunks behind a table of where each chunk but the first begins, counted from the
// end of the table; numbers of 8 bytes in files beyond 4 GiB, else of 4.
std::optional<Loss::Cause> StreamReader::decode_chunk(uint64_t unit,
                                                      std::span<std::byte> out) const {
  const uint64_t chunks = (size_ + storage_.unit - 1) / storage_.unit;
  const uint64_t width = size_ > UINT32_MAX ? 8 : 4;
  const uint64_t table = (chunks - 1) * width;
  std::vector<std::byte> bytes;
  const auto begin_of = [&](uint64_t chunk, uint64_t& begin) -> std::optional<Loss::Cause> {
    begin = chunk == 0 ? 0 : planned_ - std::min(planned_, table);
    if (chunk == 0 || chunk == chunks) return std::nullopt;
    if (const auto why = load({(chunk - 1) * width, width}, bytes)) return why;
    const auto* number = reinterpret_cast<const unsigned char*>(bytes.data());
    begin = width == 8 ? boost::endian::load_little_u64(number)
                       : boost::endian::load_little_u32(number);
    return std::nullopt;
  };
  uint64_t begin = 0;
  uint64_t end = 0;
  if (const auto why = begin_of(unit, begin)) return why;
  if (const auto why = begin_of(unit + 1, end)) return why;
  if (end < begin || end - begin > storage_.unit || end > planned_) return Cause::undecodable;
  if (const auto why = load({table + begin, end - begin}, bytes)) return why;
  return decompress(bytes, out);
}

// A resource fork whose first resource begins with a count of blocks and, for each, where it
// begins, counted from that count, and how long it is; little-endian, unlike the fork's own header.
std::optional<Loss::Cause> StreamReader::decode_block(uint64_t unit,
                                                      std::span<std::byte> out) const {
  std::vector<std::byte> bytes;
  const auto at = [&](size_t byte) {
    return reinterpret_cast<const unsigned char*>(bytes.data()) + byte;
  };
  const auto number = [&](size_t byte) { return boost::endian::load_little_u32(at(byte)); };
  if (const auto why = load({0, 4}, bytes)) return why;
  const uint64_t table = boost::endian::load_big_u32(at(0)) + uint64_t{4};  // behind its length
  if (const auto why = load({table, 4}, bytes)) return why;
  if (unit >= number(0)) return Cause::undecodable;
  if (const auto why = load({table + 4 + 8 * unit, 8}, bytes)) return why;
  const uint64_t begin = number(0);
  const uint64_t length = number(4);
  if (length == 0 || length > storage_.unit + 1024) return Cause::undecodable;
  if (const auto why = load({table + begin, length}, bytes)) return why;
  return decompress(bytes, out);
}

std::vector<BadRange> StreamReader::gaps() const {
  ReadResult found;
  if (source_ == nullptr || source_->gaps().empty()) return {};
  for (const Part& part : parts_) {
    if (part.piece.kind != Piece::Kind::range) continue;
    const ByteRange range{part.piece.offset, part.piece.length};
    each_gap(source_->gaps(), range, [&](const ByteRange& shared, bool unread) {
      add_bad(found, {{part.at + (shared.offset - range.offset), shared.length}, unread});
    });
  }
  return found.bad;
}

Losses StreamReader::read_stored(uint64_t offset, std::span<std::byte> out) const {
  Losses unreadable;
  std::ranges::fill(out, std::byte{0});
  auto part = part_at(offset);
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
      for (const BadRange& bad : source_->read(from, target).bad) {
        append_loss(unreadable, {shared.offset + (bad.offset - from), bad.length,
                                 bad.unread                     ? Cause::unread
                                 : bad.offset < source_->size() ? Cause::unreadable
                                                                : Cause::behind_source});
      }
    }
  }
  return unreadable;
}

}  // namespace undershelf
