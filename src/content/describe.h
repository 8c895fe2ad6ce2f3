// What a file says of itself: a title, who made it, when, with what. Plain values, and hostile:
// anything may stand there.
#pragma once

#include <array>
#include <cstdint>
#include <string>
#include <string_view>

#include "content/bytes.h"

namespace undershelf::content {

// Text of limited length, which travels between processes as it is.
template <size_t most>
class ShortText {
 public:
  // UTF-8. Blanks at its ends and NULs go, what is too long is cut between characters; the first
  // text that is put stays.
  void put(std::string_view utf8);
  std::string_view get() const { return {text_.data(), length_}; }
  bool empty() const { return length_ == 0; }

 private:
  std::array<char, most> text_{};
  uint16_t length_ = 0;  // bytes
};
extern template class ShortText<24>;
extern template class ShortText<96>;

struct Description {
  ShortText<96> title;   // or a subject, a name, a first line
  ShortText<96> author;  // or an artist, a sender
  ShortText<96> device;  // that made it: maker and model
  ShortText<24> made;    // as 2026-04-02 10:15:00, with " UTC" where the format says it in UTC
  uint32_t width = 0, height = 0;  // pixels
  uint64_t milliseconds = 0;       // how long it plays
  // Of values that make no sense, as of a damaged header, none is taken.
  void put_size(uint64_t wide, uint64_t high);
};

// Text in other encodings than UTF-8, as it is put into a description.
std::string from_latin1(std::string_view text);
std::string from_utf16(std::string_view text, bool big_endian);
// In the encoding of that name (as ICU knows it); of one that is not known: as from_any.
std::string from_charset(const std::string& name, std::string_view text);
// Text that begins with a byte order mark is UTF-16 or UTF-8; else UTF-8 if it can be, or Latin-1.
std::string from_any(std::string_view text);

// At most so many bytes; fewer where there are no more.
std::string text_at(Bytes& bytes, uint64_t at, uint64_t length);

// A date as "2026:04:02 10:15:00", "2026-04-02T10:15:00Z", "20260402101500" or a beginning of one;
// empty if it is none.
std::string date_in(std::string_view text);
// Seconds since 1970 in UTC; empty outside of 1980 to 2200.
std::string date_of(int64_t seconds);

// The directory of a TIFF file, or of the EXIF part of another, that begins at `base`.
void describe_exif(Bytes& bytes, uint64_t base, Description& found);
// A Vorbis comment (Ogg Vorbis I, 5) at `at`.
void describe_vorbis(Bytes& bytes, uint64_t at, Description& found);

}  // namespace undershelf::content
