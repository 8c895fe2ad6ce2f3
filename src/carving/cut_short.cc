#include "carving/cut_short.h"

#include <fmt/format.h>

#include <algorithm>
#include <vector>

#include "content/types.h"
#include "model/blank.h"

namespace undershelf::carving {
namespace {

constexpr uint64_t kWorthHaving = 16 << 10;  // bytes that are worth having
// Bytes behind what adds up in which it breaks off, where nothing states how long the part is: as
// the largest frames of sound.
constexpr uint64_t kMostUnstated = 64 << 10;
// Bytes of one value that are no content: of recordings more, as silence is blank too.
constexpr uint64_t kBlank = 4096, kBlankInRecording = 256 << 10;
constexpr uint64_t kAtOnce = 1 << 20;  // bytes read at a time; a multiple of all clusters

bool is_blank(std::span<const std::byte> bytes) {
  return (bytes[0] == std::byte{0} || bytes[0] == std::byte{0xFF}) && is_one_value(bytes);
}

uint64_t blanks_at_end(std::span<const std::byte> bytes) {
  const std::byte last = bytes.back();
  if (last != std::byte{0} && last != std::byte{0xFF}) return 0;
  const auto other =
      std::find_if(bytes.rbegin(), bytes.rend(), [&](std::byte b) { return b != last; });
  return static_cast<uint64_t>(other - bytes.rbegin());
}

// Where content ends that begins at `from`: at what is blank, held by others, or not to be read.
class EndOfContent {
 public:
  EndOfContent(const Surroundings& around, uint64_t from, uint64_t most, uint64_t blank)
      : around_(around), from_(from), most_(most), blank_(blank), ends_(from) {}

  // Bytes of it; nothing if it goes on behind `most`.
  std::optional<uint64_t> seek(uint64_t& may_read) {
    for (uint64_t at = from_; !has_ended_;) {
      const uint64_t behind = std::min(around_.source.size(), around_.next);
      if (at >= behind) break;
      buffer_.resize(std::min({kAtOnce, behind - at, around_.grids.rounded_up(at + kAtOnce) - at}));
      if (buffer_.size() > may_read) return {};
      may_read -= buffer_.size();
      if (!around_.source.read(at, buffer_).ok()) break;
      look(at);
      at += buffer_.size();
    }
    const uint64_t length = ends_ - from_;
    return is_foreign_ ? std::nullopt : std::optional(std::min(length, most_));
  }

 private:
  // Cluster by cluster of what was read; where clusters are not known, of what is blank at least.
  void look(uint64_t at) {
    for (size_t done = 0; done < buffer_.size() && !has_ended_;) {
      const uint64_t here = at + done;
      const uint64_t next =
          around_.grids.rounded_up(here + std::max(kBlank, around_.grids.cluster_at(here)));
      const size_t size = std::min<uint64_t>(next - here, buffer_.size() - done);
      const std::span part = std::span(buffer_).subspan(done, size);
      done += size;
      const bool begins_cluster = here == around_.grids.rounded_up(here);
      if (begins_cluster && around_.taken.contains(here)) {
        has_ended_ = true;
      } else if (is_blank(part)) {
        blank_now_ += size;
        has_ended_ = blank_now_ >= blank_;
      } else {
        // What is its own ends where its part does, in the cluster in which that lies.
        has_ended_ = is_foreign_ = here >= around_.grids.rounded_up(from_ + most_);
        blank_now_ = 0;
        ends_ = here + size - blanks_at_end(part);
      }
    }
  }

  const Surroundings& around_;
  const uint64_t from_, most_, blank_;  // byte of the source, bytes, bytes
  uint64_t ends_, blank_now_ = 0;
  bool has_ended_ = false, is_foreign_ = false;
  std::vector<std::byte> buffer_;
};

// Bytes at the end of what adds up that are blank: frames go by their length, and codes of zeros
// are codes.
uint64_t blank_end(const Find& find, const Source& source, uint64_t& may_read) {
  uint64_t count = 0;
  for (auto piece = find.pieces.rbegin(); piece != find.pieces.rend(); ++piece) {
    for (uint64_t left = piece->length; left > 0;) {
      std::vector<std::byte> tail(std::min(kAtOnce, left));
      if (tail.size() > may_read) return count;
      may_read -= tail.size();
      if (!source.read(piece->offset + left - tail.size(), tail).ok()) return count;
      const uint64_t blanks = blanks_at_end(tail);
      count += blanks;
      if (blanks < tail.size()) return count;
      left -= tail.size();
    }
  }
  return count;
}

}  // namespace

bool may_be_cut_short(const checking::Examined& found, uint64_t there) {
  if (found.level != content::Level::broken) return false;
  // Some go on the word of their headers, which may be none.
  constexpr uint64_t kMostUnseen = 64 << 20;
  const bool is_program_or_so = content::type_of(found.format.data()) == "other";
  if (found.sound_to >= there && (there > kMostUnseen || is_program_or_so)) return false;
  return found.sound_to >= kWorthHaving || found.part_end >= found.sound_to + kWorthHaving;
}

bool ends_blank(const Find& find, FreeBytes& bytes) {
  if (find.found.level != content::Level::consistent || find.length < 2 * kBlank) return false;
  const Blank blank =
      format_by_name(fmt::format("x.{}", content::extension_of(find.found.format.data()))).blank;
  if (blank != Blank::never && blank != Blank::hardly) return false;
  std::vector<std::byte> tail(kBlank);
  return bytes.read(find.length - kBlank, tail) == kBlank && is_blank(tail);
}

std::optional<uint64_t> length_there(const Find& find, const Surroundings& around,
                                     uint64_t& may_read) {
  const uint64_t stated = find.found.part_end;
  const bool is_recording = stated == content::kNeverWritten;
  const uint64_t most =
      stated <= find.length ? kMostUnstated : std::min(stated - find.length, around.source.size());
  const Piece& last = find.pieces.back();
  EndOfContent end(around, last.offset + last.length, most,
                   is_recording ? kBlankInRecording : kBlank);
  const auto rest = end.seek(may_read);
  if (!rest) return std::nullopt;
  uint64_t length = find.length + *rest;
  if (*rest == 0) {
    const uint64_t blank = blank_end(find, around.source, may_read);
    if (blank >= kBlank) length -= std::min(blank, length);
  }
  return length >= kWorthHaving ? std::optional(length) : std::nullopt;
}

}  // namespace undershelf::carving
