#include "content/starts.h"

#include <algorithm>
#include <array>
#include <cstdint>
#include <cstring>
#include <string_view>

#include "content/marks.h"
#include "content/walk.h"

namespace undershelf::content {
namespace {

using namespace std::string_view_literals;

// What files begin with: enough of it to leave out nearly all that is none. The families of formats
// look at what is left.
constexpr std::array kMarks = {
    "\x89PNG"sv,
    "\xFF\xD8\xFF"sv,
    "GIF8"sv,
    "II\x2A\0"sv,
    "MM\0\x2A"sv,
    "IIRO"sv,
    "IIRS"sv,
    "IIU\0"sv,
    "8BPS"sv,
    "BM"sv,
    "RIFF"sv,
    "RF64"sv,
    "FORM"sv,
    "MThd"sv,
    "\x1A\x45\xDF\xA3"sv,
    "\x30\x26\xB2\x75"sv,
    "OggS"sv,
    "fLaC"sv,
    "PK\x03\x04"sv,
    "\x1F\x8B\x08"sv,
    "\xFD"
    "7zX"sv,
    "\x28\xB5\x2F\xFD"sv,
    "\x04\x22\x4D\x18"sv,
    "7z\xBC\xAF"sv,
    "Rar!"sv,
    "MSCF"sv,
    "!<arch>\n"sv,
    "BZh"sv,
    "%PDF"sv,
    "\xD0\xCF\x11\xE0"sv,
    "SQLi"sv,
    "!BDN"sv,
    "\x7F"
    "ELF"sv,
    "MZ"sv,
    "wOF"sv,
    "\0\1\0\0"sv,
    "OTTO"sv,
    "true"sv,
    "ID3"sv,
    "\xFF\xFB"sv,
    "\xFF\xFA"sv,
    "\xFF\xF3"sv,
    "\xFF\xF2"sv,
    "\xFF\xE2"sv,
    "\xFF\xE3"sv,
    "\xFF\xF1"sv,
    "\xFF\xF9"sv,
    "\0\0\1\xBA"sv,
};

// What text begins with that is more than text.
constexpr std::array kTextMarks = {
    "<?xml"sv, "<!DOC"sv,   "<!doc"sv, "<html"sv,         "<HTML"sv,
    "<svg"sv,  "BEGIN:V"sv, "%!PS"sv,  "\xEF\xBB\xBF<"sv, "{\\rtf"sv,
};
// And what parts of it begin with, too: a letter in a mailbox, a value in JSON.
constexpr std::array kInText = {
    "{"sv,        "["sv,    "From"sv, "Retu"sv, "Rece"sv,  "Date:"sv, "MIME-"sv,
    "Message-"sv, "Subj"sv, "Deli"sv, "X-"sv,   "DKIM-"sv, "To:"sv,   "ARC-"sv,
};

constexpr Marks kFirst = [] {
  Marks marks;
  for (const std::string_view mark : kMarks) marks.add(mark);
  for (const std::string_view mark : kTextMarks) marks.add(mark);
  for (const std::string_view mark : kInText) marks.add(mark);
  return marks;
}();

// Marks of boxes (ISO/IEC 14496-12, 4.2) and databases at 4.
constexpr Marks kAt4 = [] {
  Marks marks;
  for (const auto mark : {"ftyp", "moov", "mdat", "wide", "pnot", "Stan"}) marks.add(mark);
  return marks;
}();

bool begins_with_one(std::string_view head, std::span<const std::string_view> marks) {
  return std::ranges::any_of(marks, [&](auto mark) { return head.starts_with(mark); });
}

bool is_text(std::byte byte) {
  const auto c = std::to_integer<uint8_t>(byte);
  return (c >= 0x20 && c < 0x7F) || c == '\n' || c == '\r' || c == '\t';
}
bool follows_text(std::span<const std::byte> before) {
  constexpr size_t kSeen = 8;  // bytes
  return before.size() >= kSeen && std::ranges::all_of(before.last(kSeen), is_text);
}

// Transport streams repeat it with each packet; those of the second kind begin with a time stamp.
constexpr char kSync = 'G';
bool is_transport(std::string_view head) {
  const auto repeats = [&](size_t at, size_t packet) {
    return head[at] == kSync && head.size() > at + packet && head[at + packet] == kSync;
  };
  return repeats(0, 188) || repeats(4, 192);
}

bool has_tar_mark(std::string_view head) {
  return head.size() > kTarMark && head.substr(kTarMark).starts_with("ustar");
}

bool has_mark(std::string_view head) {
  return !kFirst.at(head).empty() || !kAt4.at(head.substr(4)).empty() || is_transport(head) ||
         has_tar_mark(head);
}

}  // namespace

// By as few branches as can be: which way they go would depend on the bytes.
bool cannot_begin(std::span<const std::byte> head) {
  const std::string_view text(reinterpret_cast<const char*>(head.data()), head.size());
  if (text.size() < kLeastStart) return true;
  const uint32_t marks = kFirst.fitting(text) | kAt4.fitting(text.substr(4));
  const unsigned syncs = unsigned{text[0] == kSync} | unsigned{text[4] == kSync};
  const unsigned tar = unsigned{text[kTarMark] == 'u'} & unsigned{text[kTarMark + 1] == 's'};
  return (marks | syncs | tar) == 0;
}

bool may_begin(std::span<const std::byte> head, std::span<const std::byte> before) {
  const std::string_view text(reinterpret_cast<const char*>(head.data()), head.size());
  if (text.size() < kLeastStart || !has_mark(text)) return false;
  // A tar begins with a name, which may be like the beginning of anything.
  const bool is_tar = has_tar_mark(text);
  const bool is_closed_text = !is_tar && begins_with_one(text, kTextMarks);
  const bool may_be_in_text = !is_tar && !is_closed_text && begins_with_one(text, kInText);
  if (may_be_in_text && follows_text(before)) return false;
  // Text of less than a sector is followed by zeros.
  const size_t zero = text.substr(0, 512).find('\0');
  const bool ends_there = (is_closed_text || may_be_in_text) && zero != std::string_view::npos;
  MemoryBytes bytes(ends_there ? head.first(zero) : head);
  const auto [format, family] = recognise(bytes);
  if (format.empty() || format == "text") return false;
  if (family->goes_on != nullptr) {
    MemoryBytes in_front(before);
    if (family->goes_on(in_front, bytes, format)) return false;
  }
  return family->begins_file == nullptr || family->begins_file(bytes, format);
}

}  // namespace undershelf::content
