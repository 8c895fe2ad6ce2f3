#include "fs/ntfs/mft.h"

#include <algorithm>
#include <cstring>

#include "model/blank.h"

namespace undershelf::ntfs {
namespace {

constexpr uint64_t kMirrored = 4;       // records of which $MFTMirr has copies, at least
constexpr size_t kReadAhead = 1 << 20;  // bytes
constexpr size_t kWindow = 64 << 10;    // bytes

bool is_bad(const std::vector<BadRange>& bad, const ByteRange& range) {
  return std::ranges::any_of(bad, [&](const ByteRange& b) { return overlap(b, range).length > 0; });
}

}  // namespace

Mft::Mft(SourcePtr source, const UnitSpace& space, const Geometry& geometry,
         std::vector<std::string>& notes)
    : source_(std::move(source)),
      space_(space),
      record_size_(geometry.record_size),
      mirror_(space.base + geometry.mirror_offset),
      buffer_(geometry.record_size) {
  const uint64_t begin = space.base + geometry.mft_offset;
  if (follow_own_record(begin)) return;
  if (follow_own_record(mirror_)) {
    notes.emplace_back("The record of $MFT is damaged; its copy in $MFTMirr was used.");
    return;
  }
  // In one piece, as far as records follow each other.
  constexpr uint64_t kMostStrangers = 64;
  const uint64_t end = space.base + space.size();
  uint64_t known = begin;
  std::vector<std::byte> magic(4);
  for (uint64_t at = begin; at + record_size_ <= end && at - known < kMostStrangers * record_size_;
       at += record_size_) {
    source_->read(at, magic);
    if (std::memcmp(magic.data(), "FILE", 4) == 0) known = at + record_size_;
  }
  const uint64_t size = known - begin;
  stream_ =
      std::make_shared<PiecesSource>(source_, Pieces{{Piece::Kind::range, begin, size}}, size);
  notes.emplace_back(
      "The record of $MFT and its copy are lost; the table was taken to lie in one piece.");
}

Mft::Mft(SourcePtr source, const UnitSpace& space, const Geometry& geometry, const Pieces& records)
    : source_(std::move(source)),
      space_(space),
      record_size_(geometry.record_size),
      mirror_(0),
      stream_(std::make_shared<PiecesSource>(source_, records, total_length(records))),
      buffer_(geometry.record_size) {}

// The table's runs, from its record at `place`. Where they go on in extension records, those lie in
// the part that is known by then.
bool Mft::follow_own_record(uint64_t place) {
  std::vector<std::byte> bytes(record_size_);
  if (!source_->read(place, bytes).ok()) return false;
  const std::optional<Record> base = parse_record(bytes);
  if (!base || !base->in_use() || base->own_number().value_or(0) != 0) return false;
  stream_.reset();
  uint64_t known = 0;
  for (int round = 0; round < 64; ++round) {
    FileBuilder builder(kMft, space_);
    builder.add(*base, true);
    if (stream_) {
      for (const uint64_t reference : builder.listed_records(source_)) {
        const uint64_t number = number_of(reference);
        if (number == kMft || number >= count()) continue;
        const Read extension = read(number);
        if (extension.record && number_of(extension.record->header.base_record.value()) == kMft) {
          builder.add(*extension.record, false);
        }
      }
    }
    const File file = builder.finish(nullptr);
    const FileStream* data = file.stream(u"");
    if (data == nullptr || data->resident || data->pieces.empty()) return false;
    uint64_t now = 0;
    for (const Piece& piece : data->pieces) {
      if (piece.kind == Piece::Kind::range) now += piece.length;
    }
    if (now == 0) return false;
    if (now == known) return true;
    known = now;
    // A size that no volume of this length can hold is damage.
    const uint64_t most = space_.size();
    stream_ = std::make_shared<PiecesSource>(
        source_, data->pieces, std::min({data->size, data->initialized, most, source_->size()}));
    window_at_ = UINT64_MAX;
    if (!builder.has_list()) return true;
  }
  return true;
}

uint64_t Mft::place_of(uint64_t number) const {
  return stream_->place_of(number * record_size_).value_or(0);
}

Mft::Read Mft::parse(uint64_t number, std::span<std::byte> bytes, bool readable) {
  Read result;
  if (readable) {
    result.record = parse_record(bytes);
    // A record of another place, or of another volume. Some formatters leave the number 0.
    const uint32_t own = result.record ? result.record->own_number().value_or(0) : 0;
    if (own != 0 && own != static_cast<uint32_t>(number)) result.record.reset();
  }
  if (!result.record && number < kMirrored && mirror_ != 0) {
    const uint64_t copy = mirror_ + number * record_size_;
    if (copy != place_of(number) && source_->read(copy, bytes).ok()) {
      result.record = parse_record(bytes);
    }
  }
  if (result.record) {
    result.state = State::record;
  } else if (!readable) {
    result.state = State::unreadable;
  } else {
    result.state = is_zeros(bytes) ? State::blank : State::rubbish;
  }
  return result;
}

void Mft::each(const std::function<void(uint64_t, const Read&)>& visit) {
  std::vector<std::byte> block(std::max<size_t>(kReadAhead, record_size_));
  const uint64_t per_block = block.size() / record_size_;
  for (uint64_t first = 0; first < count(); first += per_block) {
    const uint64_t records = std::min(per_block, count() - first);
    const auto bytes = std::span(block).first(records * record_size_);
    const uint64_t stored = stream_->next_stored(first * record_size_);
    if (stored >= (first + records) * record_size_) {
      first = stored / record_size_ / per_block * per_block - per_block;
      continue;
    }
    const ReadResult result = stream_->read(first * record_size_, bytes);
    for (uint64_t i = 0; i < records; ++i) {
      const ByteRange range{(first + i) * record_size_, record_size_};
      const bool readable = result.ok() || !is_bad(result.bad, range);
      visit(first + i, parse(first + i, bytes.subspan(i * record_size_, record_size_), readable));
    }
  }
}

Mft::Read Mft::read(uint64_t number) {
  if (number >= count()) return {};
  const uint64_t at = number * record_size_;
  const size_t length = std::max<size_t>(kWindow, record_size_);
  const uint64_t window = at / length * length;
  if (window != window_at_) {
    window_at_ = UINT64_MAX;  // should the read be broken off
    window_.resize(length);
    window_bad_ = stream_->read(window, window_).bad;
    window_at_ = window;
  }
  const auto from = std::span(window_).subspan(at - window, record_size_);
  std::ranges::copy(from, buffer_.begin());
  return parse(number, buffer_, window_bad_.empty() || !is_bad(window_bad_, {at, record_size_}));
}

}  // namespace undershelf::ntfs
