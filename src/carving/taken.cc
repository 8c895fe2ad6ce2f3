#include "carving/taken.h"

#include <algorithm>

namespace undershelf::carving {

void Taken::settle() {
  std::ranges::sort(ranges_, {}, &ByteRange::offset);
  size_t kept = 0;
  for (const ByteRange& range : ranges_) {
    if (range.length == 0) continue;
    if (kept > 0 && range.offset <= ranges_[kept - 1].end()) {
      ByteRange& last = ranges_[kept - 1];
      last.length = std::max(last.end(), range.end()) - last.offset;
    } else {
      ranges_[kept++] = range;
    }
  }
  ranges_.resize(kept);
  before_.assign(1, 0);
  for (const ByteRange& range : ranges_) before_.push_back(before_.back() + range.length);
}

std::vector<ByteRange>::const_iterator Taken::find(uint64_t offset) const {
  return std::ranges::upper_bound(ranges_, offset, {}, &ByteRange::end);
}

bool Taken::contains(uint64_t offset) const {
  const auto found = find(offset);
  return found != ranges_.end() && found->offset <= offset;
}

ByteRange Taken::at_or_after(uint64_t offset) const {
  const auto found = find(offset);
  return found == ranges_.end() ? ByteRange{} : *found;
}

uint64_t Taken::free_of(const Pieces& pieces) const {
  uint64_t free = 0;
  for (const Piece& piece : pieces) {
    const ByteRange next = at_or_after(piece.offset);
    if (next.length > 0 && next.offset < piece.offset + piece.length) {
      return free + std::max(next.offset, piece.offset) - piece.offset;
    }
    free += piece.length;
  }
  return free;
}

uint64_t Taken::free_between(uint64_t from, uint64_t end) const {
  if (end <= from) return 0;
  // Bytes taken before a place.
  const auto before = [&](uint64_t offset) {
    const auto found = find(offset);
    const uint64_t whole = before_[static_cast<size_t>(found - ranges_.begin())];
    const bool inside = found != ranges_.end() && found->offset < offset;
    return whole + (inside ? offset - found->offset : 0);
  };
  return end - from - (before(end) - before(from));
}

FreeBytes::FreeBytes(const Source& source, const Taken& taken, const Pieces& own, uint64_t behind,
                     uint64_t end)
    : source_(source),
      taken_(taken),
      next_(behind),
      end_(end),
      size_(total_length(own) + taken.free_between(behind, end)) {
  uint64_t at = 0;
  for (const Piece& piece : own) {
    parts_.push_back({at, {piece.offset, piece.length}});
    at += piece.length;
  }
}

bool FreeBytes::reach(uint64_t at) {
  while (parts_.empty() || at >= parts_.back().at + parts_.back().range.length) {
    const ByteRange taken = taken_.at_or_after(next_);
    if (taken.length > 0 && taken.offset <= next_) {
      next_ = taken.end();
      continue;
    }
    if (next_ >= end_) return false;
    const uint64_t until = taken.length == 0 ? end_ : std::min(end_, taken.offset);
    const uint64_t behind = parts_.empty() ? 0 : parts_.back().at + parts_.back().range.length;
    parts_.push_back({behind, {next_, until - next_}});
    next_ = until;
  }
  return true;
}

std::vector<FreeBytes::Part>::const_iterator FreeBytes::part_of(uint64_t at) const {
  return std::prev(std::ranges::upper_bound(parts_, at, {}, &Part::at));
}

size_t FreeBytes::read(uint64_t at, std::span<std::byte> out) {
  size_t done = 0;
  while (done < out.size() && reach(at + done)) {
    const auto part = part_of(at + done);
    const uint64_t inside = at + done - part->at;
    const auto wanted =
        out.subspan(done, std::min<uint64_t>(out.size() - done, part->range.length - inside));
    const uint64_t offset = part->range.offset + inside;
    const ReadResult read = source_.read(offset, wanted);
    if (!read.ok()) return done + static_cast<size_t>(read.bad.front().offset - offset);
    done += wanted.size();
  }
  return done;
}

void FreeBytes::add_pieces(uint64_t from, uint64_t to, Pieces& pieces) {
  if (from >= to || !reach(to - 1)) return;
  for (auto part = part_of(from); part != parts_.end() && part->at < to; ++part) {
    const uint64_t begin = std::max(from, part->at);
    const uint64_t end = std::min(to, part->at + part->range.length);
    append_piece(pieces,
                 {Piece::Kind::range, part->range.offset + (begin - part->at), end - begin});
  }
}

uint64_t FreeBytes::place_of(uint64_t at) {
  if (!reach(at)) return end_;
  const auto part = part_of(at);
  return part->range.offset + (at - part->at);
}

}  // namespace undershelf::carving
