#include "fs/before.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

namespace undershelf {
namespace {

// A source with so many bytes before it that cannot be read.
class Preceded : public Source {
 public:
  Preceded(SourcePtr base, uint64_t before) : base_(std::move(base)), before_(before) {
    gaps_.push_back({{0, before}});
    for (BadRange gap : base_->gaps()) {
      gap.offset += before;
      gaps_.push_back(gap);
    }
  }
  uint64_t size() const override { return before_ + base_->size(); }
  uint32_t sector_size() const override { return base_->sector_size(); }
  std::span<const BadRange> gaps() const override { return gaps_; }

  ReadResult read(uint64_t offset, std::span<std::byte> out) const override {
    ReadResult result;
    const size_t missing = offset < before_ ? std::min<uint64_t>(out.size(), before_ - offset) : 0;
    std::fill_n(out.begin(), missing, std::byte{0});
    if (missing > 0) add_bad(result, {{offset, missing}});
    if (missing == out.size()) return result;
    for (BadRange bad : base_->read(offset + missing - before_, out.subspan(missing)).bad) {
      bad.offset += before_;
      add_bad(result, bad);
    }
    return result;
  }

 private:
  SourcePtr base_;
  uint64_t before_;
  std::vector<BadRange> gaps_;
};

// Bytes of the preceded source as bytes of the space.
class Shift {
 public:
  explicit Shift(uint64_t before) : before_(before) {}

  ByteRange operator()(const ByteRange& range) const {
    const uint64_t begin = std::max(range.offset, before_);
    const uint64_t end = std::max(range.end(), before_);
    return {begin - before_, end - begin};
  }
  std::optional<uint64_t> operator()(std::optional<uint64_t> place) const {
    return place && *place >= before_ ? std::optional(*place - before_) : std::nullopt;
  }
  Pieces operator()(const Pieces& pieces) const {
    Pieces shifted;
    for (const Piece& piece : pieces) {
      if (piece.kind != Piece::Kind::range) {
        append_piece(shifted, piece);
        continue;
      }
      const ByteRange there = (*this)(ByteRange{piece.offset, piece.length});
      append_piece(shifted, {Piece::Kind::unknown, 0, piece.length - there.length});
      append_piece(shifted, {Piece::Kind::range, there.offset, there.length});
    }
    return shifted;
  }

 private:
  uint64_t before_;
};

class ShiftingSink : public Sink {
 public:
  ShiftingSink(Sink& to, uint64_t before) : to_(to), shift_(before) {}

  EntryId add(const Entry& entry) override {
    Entry shifted = entry;
    for (Stream& stream : shifted.streams) {
      stream.first = shift_(stream.first);
      stream.pieces = shift_(stream.pieces);
    }
    shifted.structures.clear();
    for (const Piece& piece : shift_(entry.structures)) {
      if (piece.kind == Piece::Kind::range) append_piece(shifted.structures, piece);
    }
    return to_.add(shifted);
  }
  void add(EntryId entry, const OtherName& name) override { to_.add(entry, name); }
  void add(const Damage& damage) override { to_.add({shift_(damage.range), damage.what}); }

 private:
  Sink& to_;
  Shift shift_;
};

class FromBefore : public VolumeReader {
 public:
  FromBefore(std::unique_ptr<VolumeReader> inner, uint64_t before)
      : inner_(std::move(inner)), before_(before), shift_(before), volume_(inner_->volume()) {
    volume_.offset = 0;
    volume_.before = before;
    volume_.length -= std::min(volume_.length, before);
    // The grid begins with the first cluster of which all is there.
    const uint64_t missing = before > volume_.heap_offset ? before - volume_.heap_offset : 0;
    const uint64_t clusters = std::min(volume_.cluster_count,
                                       (missing + volume_.cluster_size - 1) / volume_.cluster_size);
    volume_.heap_offset += clusters * volume_.cluster_size;
    volume_.heap_offset -= before;
    volume_.cluster_count -= clusters;
    std::vector<ByteRange> structures;
    for (const ByteRange& range : volume_.structures) {
      if (const ByteRange there = shift_(range); there.length > 0) structures.push_back(there);
    }
    volume_.structures = std::move(structures);
    volume_.notes.push_back(
        fmt::format("It begins {} bytes before the source does: these are missing, as the copy or "
                    "its partition "
                    "begins too late.",
                    before));
  }

  const Volume& volume() const override { return volume_; }
  void read(Sink& sink) override {
    ShiftingSink shifting(sink, before_);
    inner_->read(shifting);
  }
  ByteRange next_used(const ByteRange& within) override {
    return shift_(inner_->next_used({within.offset + before_, within.length}));
  }

 private:
  std::unique_ptr<VolumeReader> inner_;
  uint64_t before_;
  Shift shift_;
  Volume volume_;
};

}  // namespace

std::unique_ptr<VolumeReader> open_from_before(const FileSystem& system, const VolumePlace& place,
                                               uint64_t bytes) {
  const ByteRange& where = place.where;
  if (bytes <= where.offset) {
    return system.open({place.source, {where.offset - bytes, where.length + bytes}, place.options});
  }
  const uint64_t before = bytes - where.offset;
  constexpr uint64_t kMostBytes = uint64_t{1} << 62;  // of all, so that sums are numbers
  if (before > kMostBytes || place.source->size() > kMostBytes) return nullptr;
  const auto preceded = std::make_shared<Preceded>(place.source, before);
  auto inner = system.open({preceded, {0, where.length + bytes}, place.options});
  return inner ? std::make_unique<FromBefore>(std::move(inner), before) : nullptr;
}

}  // namespace undershelf
