#include "content/types.h"

#include <algorithm>
#include <array>
#include <cstring>
#include <string>

#include "content/marks.h"

namespace undershelf {
namespace {

using namespace std::string_view_literals;

constexpr std::string_view kText = "\xFFtext"sv;  // no magic: text without NUL

constexpr auto kPkzip = "PK\x03\x04"sv;
constexpr auto kOle = "\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1"sv;  // [MS-CFB] 2.2
constexpr auto kRiff = "RIFF"sv;
constexpr auto kFtyp = "ftyp"sv;  // ISO/IEC 14496-12, 4.3

// Sorted by extension. type, blank, magic, magic_at.
constexpr std::array kFormats = {
    Format{"7z", "archive", Blank::never, "7z\xBC\xAF\x27\x1C"sv},
    Format{"aac", "audio", Blank::never},
    Format{"aif", "audio", Blank::not_at_head, "FORM"sv},
    Format{"aiff", "audio", Blank::not_at_head, "FORM"sv},
    Format{"avi", "video", Blank::not_at_head, kRiff},
    Format{"bmp", "picture", Blank::not_at_head, "BM"sv},
    Format{"bz2", "archive", Blank::never, "BZh"sv},
    Format{"cr2", "picture", Blank::not_at_head, "II\x2A\0"sv},
    Format{"csv", "document", Blank::never, kText},
    Format{"db", "database", Blank::anywhere},
    Format{"dbf", "database", Blank::not_at_head},
    Format{"dng", "picture", Blank::not_at_head},
    Format{"doc", "document", Blank::not_at_head, kOle},
    Format{"docx", "document", Blank::never, kPkzip},
    Format{"eml", "mail", Blank::never, kText},
    Format{"flac", "audio", Blank::never, "fLaC"sv},
    Format{"gif", "picture", Blank::hardly, "GIF8"sv},
    Format{"gz", "archive", Blank::never, "\x1F\x8B"sv},
    Format{"heic", "picture", Blank::hardly, kFtyp, 4},
    Format{"heif", "picture", Blank::hardly, kFtyp, 4},
    Format{"htm", "document", Blank::never, kText},
    Format{"html", "document", Blank::never, kText},
    Format{"ini", "other", Blank::never, kText},
    Format{"jpeg", "picture", Blank::hardly, "\xFF\xD8\xFF"sv},
    Format{"jpg", "picture", Blank::hardly, "\xFF\xD8\xFF"sv},
    Format{"json", "document", Blank::never, kText},
    Format{"log", "other", Blank::never, kText},
    Format{"m4a", "audio", Blank::hardly, kFtyp, 4},
    Format{"m4v", "video", Blank::hardly, kFtyp, 4},
    Format{"mbox", "mail", Blank::never, kText},
    Format{"md", "document", Blank::never, kText},
    Format{"mdb", "database", Blank::not_at_head},
    Format{"mkv", "video", Blank::hardly, "\x1A\x45\xDF\xA3"sv},
    Format{"mov", "video", Blank::hardly},
    Format{"mp3", "audio", Blank::hardly},
    Format{"mp4", "video", Blank::hardly, kFtyp, 4},
    Format{"mpg", "video", Blank::hardly},
    Format{"msg", "mail", Blank::not_at_head, kOle},
    Format{"mts", "video", Blank::hardly},
    Format{"nef", "picture", Blank::not_at_head},
    Format{"odg", "document", Blank::never, kPkzip},
    Format{"odp", "document", Blank::never, kPkzip},
    Format{"ods", "document", Blank::never, kPkzip},
    Format{"odt", "document", Blank::never, kPkzip},
    Format{"ogg", "audio", Blank::never, "OggS"sv},
    Format{"pdf", "document", Blank::hardly, "%PDF"sv},
    Format{"png", "picture", Blank::hardly, "\x89PNG\r\n\x1A\n"sv},
    Format{"ppt", "document", Blank::not_at_head, kOle},
    Format{"pptx", "document", Blank::never, kPkzip},
    Format{"psd", "picture", Blank::not_at_head, "8BPS"sv},
    Format{"pst", "mail", Blank::not_at_head, "!BDN"sv},
    Format{"rar", "archive", Blank::never, "Rar!"sv},
    Format{"rtf", "document", Blank::never, "{\\rtf"sv},
    Format{"sql", "database", Blank::never, kText},
    Format{"sqlite", "database", Blank::not_at_head, "SQLite format 3\0"sv},
    Format{"svg", "picture", Blank::never, kText},
    Format{"tar", "archive", Blank::not_at_head},
    Format{"tgz", "archive", Blank::never, "\x1F\x8B"sv},
    Format{"tif", "picture", Blank::not_at_head},
    Format{"tiff", "picture", Blank::not_at_head},
    Format{"tsv", "document", Blank::never, kText},
    Format{"txt", "document", Blank::never},  // may be UTF-16, which is full of NULs
    Format{"wav", "audio", Blank::not_at_head, kRiff},
    Format{"webm", "video", Blank::hardly, "\x1A\x45\xDF\xA3"sv},
    Format{"webp", "picture", Blank::hardly, kRiff},
    Format{"wma", "audio", Blank::hardly},
    Format{"wmv", "video", Blank::hardly},
    Format{"xls", "document", Blank::not_at_head, kOle},
    Format{"xlsx", "document", Blank::never, kPkzip},
    Format{"xml", "document", Blank::never},
    Format{"xz", "archive", Blank::never,
           "\xFD"
           "7zXZ\0"sv},
    Format{"zip", "archive", Blank::never, "PK"sv},
    Format{"zst", "archive", Blank::never, "\x28\xB5\x2F\xFD"sv},
};
static_assert(std::ranges::is_sorted(kFormats, {}, &Format::extension));

constexpr Format kOther{"", "other"};

}  // namespace

namespace {

// What stands for a mark wherever one is kept: FNV-1a of its bytes, which no change of the table
// alters.
constexpr uint32_t id_of(std::string_view magic) {
  uint32_t hash = 2166136261U;
  for (const char c : magic) hash = (hash ^ static_cast<unsigned char>(c)) * 16777619U;
  return hash;
}

constexpr bool is_mark(const Format& format) {
  constexpr size_t kLeast = 3;  // shorter ones stand everywhere
  return format.magic_at == 0 && format.magic.size() >= kLeast && format.magic != kText;
}

constexpr content::Marks kMarks = [] {
  content::Marks marks;
  for (const Format& format : kFormats) {
    if (is_mark(format)) marks.add(format.magic);
  }
  return marks;
}();

}  // namespace

std::optional<uint32_t> mark_of(const Format& format) {
  return is_mark(format) ? std::optional(id_of(format.magic)) : std::nullopt;
}

std::optional<uint32_t> mark_at(std::span<const std::byte> head) {
  const std::string_view mark =
      kMarks.at({reinterpret_cast<const char*>(head.data()), head.size()});
  return mark.empty() ? std::nullopt : std::optional(id_of(mark));
}

std::string extension_in(std::string_view name) {
  const size_t dot = name.rfind('.');
  if (dot == std::string_view::npos || dot == 0) return {};
  std::string extension(name.substr(dot + 1));
  for (char& c : extension) {
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c + 32);
  }
  return extension;
}

const Format& format_by_name(std::string_view name) {
  const std::string extension = extension_in(name);
  const auto* found =
      std::ranges::lower_bound(kFormats, std::string_view(extension), {}, &Format::extension);
  return found != kFormats.end() && found->extension == extension ? *found : kOther;
}

bool is_text(const Format& format) { return format.magic == kText; }

HeadMatch match_head(const Format& format, std::span<const std::byte> head) {
  if (format.magic.empty() || head.empty()) return HeadMatch::unknown;
  if (is_text(format)) {
    const bool text = std::ranges::find(head, std::byte{0}) == head.end();
    return text ? HeadMatch::fits : HeadMatch::differs;
  }
  if (head.size() < format.magic_at + format.magic.size()) return HeadMatch::unknown;
  const bool same =
      std::memcmp(head.data() + format.magic_at, format.magic.data(), format.magic.size()) == 0;
  return same ? HeadMatch::fits : HeadMatch::differs;
}

std::span<const std::string_view> type_names() {
  static constexpr std::array kTypes = {"picture"sv, "document"sv, "video"sv,    "audio"sv,
                                        "archive"sv, "mail"sv,     "database"sv, "other"sv};
  return kTypes;
}

}  // namespace undershelf
