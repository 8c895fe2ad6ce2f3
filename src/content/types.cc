#include "content/types.h"

#include <algorithm>
#include <array>
#include <cstring>
#include <string>
#include <vector>

namespace undershelf {
namespace {

using namespace std::string_view_literals;

constexpr std::string_view kText = "\xFFtext"sv;  // no magic: text without NUL

constexpr auto kPkzip = "PK\x03\x04"sv;
constexpr auto kOle = "\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1"sv;  // [MS-CFB] 2.2
constexpr auto kRiff = "RIFF"sv;
constexpr auto kFtyp = "ftyp"sv;  // ISO/IEC 14496-12, 4.3

// Sorted by extension. type, has_head, dense, magic, magic_at.
constexpr std::array kFormats = {
    Format{"7z", "archive", true, true, "7z\xBC\xAF\x27\x1C"sv},
    Format{"aac", "audio", true, true},
    Format{"aif", "audio", true, false, "FORM"sv},
    Format{"aiff", "audio", true, false, "FORM"sv},
    Format{"avi", "video", true, false, kRiff},
    Format{"bmp", "picture", true, false, "BM"sv},
    Format{"bz2", "archive", true, true, "BZh"sv},
    Format{"cr2", "picture", true, false, "II\x2A\0"sv},
    Format{"csv", "document", true, true, kText},
    Format{"db", "database", false, false},
    Format{"dbf", "database", true, false},
    Format{"dng", "picture", true, false},
    Format{"doc", "document", true, false, kOle},
    Format{"docx", "document", true, true, kPkzip},
    Format{"eml", "mail", true, true, kText},
    Format{"flac", "audio", true, true, "fLaC"sv},
    Format{"gif", "picture", true, false, "GIF8"sv},
    Format{"gz", "archive", true, true, "\x1F\x8B"sv},
    Format{"heic", "picture", true, false, kFtyp, 4},
    Format{"heif", "picture", true, false, kFtyp, 4},
    Format{"htm", "document", true, true, kText},
    Format{"html", "document", true, true, kText},
    Format{"ini", "other", true, true, kText},
    Format{"jpeg", "picture", true, false, "\xFF\xD8\xFF"sv},
    Format{"jpg", "picture", true, false, "\xFF\xD8\xFF"sv},
    Format{"json", "document", true, true, kText},
    Format{"log", "other", true, true, kText},
    Format{"m4a", "audio", true, false, kFtyp, 4},
    Format{"m4v", "video", true, false, kFtyp, 4},
    Format{"mbox", "mail", true, true, kText},
    Format{"md", "document", true, true, kText},
    Format{"mdb", "database", true, false},
    Format{"mkv", "video", true, false, "\x1A\x45\xDF\xA3"sv},
    Format{"mov", "video", true, false},
    Format{"mp3", "audio", true, false},
    Format{"mp4", "video", true, false, kFtyp, 4},
    Format{"mpg", "video", true, false},
    Format{"msg", "mail", true, false, kOle},
    Format{"mts", "video", true, false},
    Format{"nef", "picture", true, false},
    Format{"odg", "document", true, true, kPkzip},
    Format{"odp", "document", true, true, kPkzip},
    Format{"ods", "document", true, true, kPkzip},
    Format{"odt", "document", true, true, kPkzip},
    Format{"ogg", "audio", true, true, "OggS"sv},
    Format{"pdf", "document", true, false, "%PDF"sv},
    Format{"png", "picture", true, false, "\x89PNG\r\n\x1A\n"sv},
    Format{"ppt", "document", true, false, kOle},
    Format{"pptx", "document", true, true, kPkzip},
    Format{"psd", "picture", true, false, "8BPS"sv},
    Format{"pst", "mail", true, false, "!BDN"sv},
    Format{"rar", "archive", true, true, "Rar!"sv},
    Format{"rtf", "document", true, true, "{\\rtf"sv},
    Format{"sql", "database", true, true, kText},
    Format{"sqlite", "database", true, false, "SQLite format 3\0"sv},
    Format{"svg", "picture", true, true, kText},
    Format{"tar", "archive", true, false},
    Format{"tgz", "archive", true, true, "\x1F\x8B"sv},
    Format{"tif", "picture", true, false},
    Format{"tiff", "picture", true, false},
    Format{"tsv", "document", true, true, kText},
    Format{"txt", "document", true, true},  // may be UTF-16, which is full of NULs
    Format{"wav", "audio", true, false, kRiff},
    Format{"webm", "video", true, false, "\x1A\x45\xDF\xA3"sv},
    Format{"webp", "picture", true, false, kRiff},
    Format{"wma", "audio", true, false},
    Format{"wmv", "video", true, false},
    Format{"xls", "document", true, false, kOle},
    Format{"xlsx", "document", true, true, kPkzip},
    Format{"xml", "document", true, true},
    Format{"xz", "archive", true, true,
           "\xFD"
           "7zXZ\0"sv},
    Format{"zip", "archive", true, true, "PK"sv},
    Format{"zst", "archive", true, true, "\x28\xB5\x2F\xFD"sv},
};
static_assert(std::ranges::is_sorted(kFormats, {}, &Format::extension));

constexpr Format kOther{"", "other"};

}  // namespace

namespace {

// The first format of the table that has each mark stands for it; by first byte, those marks.
struct Marks {
  std::array<std::vector<unsigned>, 256> by_first_byte;
  std::array<std::optional<unsigned>, std::size(kFormats)> of_format;
  Marks() {
    constexpr size_t kLeast = 3;  // shorter ones stand everywhere
    for (unsigned i = 0; i < std::size(kFormats); ++i) {
      const Format& format = kFormats[i];
      if (format.magic_at != 0 || format.magic.size() < kLeast || is_text(format)) continue;
      unsigned first = 0;
      while (kFormats[first].magic != format.magic || kFormats[first].magic_at != 0) ++first;
      of_format[i] = first;
      if (first == i) {
        by_first_byte[static_cast<unsigned char>(format.magic[0])].push_back(i);
      }
    }
  }
};

const Marks& marks() {
  static const Marks all;
  return all;
}

}  // namespace

std::optional<unsigned> mark_of(const Format& format) {
  const auto index = static_cast<size_t>(&format - std::data(kFormats));
  return index < std::size(kFormats) ? marks().of_format[index] : std::nullopt;
}

std::optional<unsigned> mark_at(std::span<const std::byte> head) {
  if (head.empty()) return std::nullopt;
  for (const unsigned i : marks().by_first_byte[std::to_integer<unsigned>(head[0])]) {
    const std::string_view magic = kFormats[i].magic;
    if (magic.size() <= head.size() && std::memcmp(head.data(), magic.data(), magic.size()) == 0) {
      return i;
    }
  }
  return std::nullopt;
}

const Format& format_by_name(std::string_view name) {
  const size_t dot = name.rfind('.');
  if (dot == std::string_view::npos || dot == 0) return kOther;
  std::string extension(name.substr(dot + 1));
  for (char& c : extension) {
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c + 32);
  }
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
