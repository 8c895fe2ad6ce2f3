#include "content/walk.h"

#include <algorithm>
#include <array>

#include "content/families.h"

namespace undershelf::content {
namespace {

using namespace std::string_view_literals;

// The order counts: what is told by its first bytes comes before what is told by little.
constexpr std::array kFamilies = {
    &kPng,    &kJpeg,    &kGif,       &kTiff,   &kPsd,  &kIsobmff,   &kRiff, &kMatroska, &kAsf,
    &kOgg,    &kFlac,    &kZip,       &kPacked, &kTar,  &kAr,        &kPdf,  &kCompound, &kBmp,
    &kSqlite, &kProgram, &kDiscImage, &kFont,   &kMpeg, &kMpegAudio, &kText,
};

constexpr std::array kWords = {
    FormatWord{"7z", "archive", true},
    FormatWord{"3gp", "video", true},
    FormatWord{"aac", "audio", true},
    FormatWord{"aiff", "audio"},
    FormatWord{"ar", "archive"},
    FormatWord{"asf", "video", true},
    FormatWord{"avi", "video"},
    FormatWord{"avif", "picture"},
    FormatWord{"bmp", "picture"},
    FormatWord{"bzip2", "archive", true},
    FormatWord{"cab", "archive", true},
    FormatWord{"compound", "document"},
    FormatWord{"cr2", "picture"},
    FormatWord{"cr3", "picture"},
    FormatWord{"deb", "archive"},
    FormatWord{"doc", "document"},
    FormatWord{"docx", "document", true},
    FormatWord{"elf", "other"},
    FormatWord{"eml", "mail"},
    FormatWord{"epub", "document", true},
    FormatWord{"flac", "audio"},
    FormatWord{"font", "other", true},
    FormatWord{"gif", "picture", true},
    FormatWord{"gzip", "archive", true},
    FormatWord{"heic", "picture"},
    FormatWord{"html", "document"},
    FormatWord{"icalendar", "document"},
    FormatWord{"iso9660", "archive"},
    FormatWord{"jar", "archive"},
    FormatWord{"jp2", "picture"},
    FormatWord{"jpeg", "picture", true},
    FormatWord{"json", "document"},
    FormatWord{"lz4", "archive", true},
    FormatWord{"m4a", "audio"},
    FormatWord{"m4v", "video", true},
    FormatWord{"mbox", "mail"},
    FormatWord{"mdb", "database"},
    FormatWord{"midi", "audio"},
    FormatWord{"mkv", "video", true},
    FormatWord{"mov", "video", true},
    FormatWord{"mp3", "audio", true},
    FormatWord{"mp4", "video"},
    FormatWord{"mpeg-ps", "video", true},
    FormatWord{"mpeg-ts", "video", true},
    FormatWord{"msg", "mail"},
    FormatWord{"odp", "document"},
    FormatWord{"ods", "document"},
    FormatWord{"odt", "document", true},
    FormatWord{"ogg", "audio", true},
    FormatWord{"ogv", "video"},
    FormatWord{"opus", "audio", true},
    FormatWord{"orf", "picture"},
    FormatWord{"pdf", "document"},
    FormatWord{"pe", "other"},
    FormatWord{"png", "picture", true},
    FormatWord{"postscript", "document"},
    FormatWord{"ppt", "document"},
    FormatWord{"pptx", "document"},
    FormatWord{"psd", "picture"},
    FormatWord{"pst", "mail"},
    FormatWord{"rar", "archive"},
    FormatWord{"rtf", "document"},
    FormatWord{"rw2", "picture"},
    FormatWord{"sqlite", "database", true},
    FormatWord{"svg", "picture"},
    FormatWord{"tar", "archive"},
    FormatWord{"text", "document"},
    FormatWord{"tiff", "picture"},
    FormatWord{"vcard", "document"},
    FormatWord{"wav", "audio"},
    FormatWord{"webm", "video", true},
    FormatWord{"webp", "picture"},
    FormatWord{"woff", "other"},
    FormatWord{"xls", "document"},
    FormatWord{"xlsx", "document", true},
    FormatWord{"xml", "document"},
    FormatWord{"xz", "archive", true},
    FormatWord{"zip", "archive", true},
    FormatWord{"zstd", "archive", true},
};

// Formats whose files are not called by the format's own word.
constexpr std::array kExtensions = {
    std::pair{"jpeg"sv, "jpg"sv},      std::pair{"tiff"sv, "tif"sv},
    std::pair{"mpeg-ts"sv, "ts"sv},    std::pair{"mpeg-ps"sv, "mpg"sv},
    std::pair{"asf"sv, "wmv"sv},       std::pair{"gzip"sv, "gz"sv},
    std::pair{"bzip2"sv, "bz2"sv},     std::pair{"zstd"sv, "zst"sv},
    std::pair{"iso9660"sv, "iso"sv},   std::pair{"text"sv, "txt"sv},
    std::pair{"postscript"sv, "ps"sv}, std::pair{"icalendar"sv, "ics"sv},
    std::pair{"vcard"sv, "vcf"sv},     std::pair{"font"sv, "ttf"sv},
    std::pair{"pe"sv, "exe"sv},        std::pair{"midi"sv, "mid"sv},
    std::pair{"compound"sv, "cfb"sv},  std::pair{"elf"sv, "bin"sv},
    std::pair{"ar"sv, "a"sv},
};

// What some of their files are called besides.
constexpr std::array kFurtherExtensions = {
    std::pair{"jpeg"sv, "jpeg"sv},   std::pair{"jpeg"sv, "jpe"sv},
    std::pair{"tiff"sv, "tiff"sv},   std::pair{"tiff"sv, "dng"sv},
    std::pair{"tiff"sv, "nef"sv},    std::pair{"tiff"sv, "arw"sv},
    std::pair{"html"sv, "htm"sv},    std::pair{"aiff"sv, "aif"sv},
    std::pair{"heic"sv, "heif"sv},   std::pair{"sqlite"sv, "db"sv},
    std::pair{"mpeg-ts"sv, "mts"sv}, std::pair{"mpeg-ts"sv, "m2ts"sv},
    std::pair{"mpeg-ps"sv, "vob"sv}, std::pair{"mpeg-ps"sv, "mpeg"sv},
    std::pair{"asf"sv, "wma"sv},     std::pair{"mp4"sv, "m4v"sv},
    std::pair{"m4v"sv, "mp4"sv},     std::pair{"gzip"sv, "tgz"sv},
    std::pair{"mdb"sv, "accdb"sv},   std::pair{"font"sv, "otf"sv},
    std::pair{"elf"sv, "so"sv},      std::pair{"elf"sv, "elf"sv},
    std::pair{"pe"sv, "dll"sv},      std::pair{"zip"sv, "kmz"sv},
};

const FormatWord* find(std::string_view word) {
  if (word.empty()) return nullptr;
  const auto* found = std::ranges::find(kWords, word, &FormatWord::format);
  return found == kWords.end() ? nullptr : found;
}

constexpr std::array<std::string_view, 4> kLevels = {"unknown", "broken", "consistent", "verified"};

}  // namespace

Recognised recognise(Bytes& bytes) {
  for (const Family* family : kFamilies) {
    const std::string_view format = family->recognise(bytes);
    if (!format.empty()) return {format, family};
  }
  return {};
}

Walk walk_open(Bytes& bytes, const Recognised& recognised) {
  if (recognised.family == nullptr) return {};
  const Family& family = *recognised.family;
  return (family.walk_open != nullptr ? family.walk_open : family.walk)(bytes, recognised.format);
}

uint64_t before_zeros(Bytes& bytes, uint64_t end) {
  constexpr uint64_t kMost = 4096;
  uint64_t begin = 0;  // of the zeros before `at`
  for (uint64_t at = 0; at < end;) {
    const auto part = bytes.at(at, std::min<uint64_t>(Bytes::kMostAtOnce, end - at));
    if (part.empty()) break;
    for (const std::byte& byte : part) {
      ++at;
      if (byte != std::byte{0}) begin = at;
      if (at - begin >= kMost) return begin;
    }
  }
  return end;
}

uint64_t stated_end(Bytes& bytes, const Recognised& recognised, uint64_t at) {
  if (recognised.family == nullptr) return 0;
  const Family& family = *recognised.family;
  const auto end = family.stated_end != nullptr ? family.stated_end : family.part_end;
  return end == nullptr ? 0 : end(bytes, at).value_or(0);
}

void describe(Bytes& bytes, const Recognised& recognised, Description& found) {
  if (recognised.family == nullptr || recognised.family->describe == nullptr) return;
  recognised.family->describe(bytes, recognised.format, found);
}

std::span<const FormatWord> format_words() { return kWords; }

std::string_view type_of(std::string_view format) {
  const FormatWord* found = find(format);
  return found == nullptr ? std::string_view() : found->type;
}

bool tells_its_end(std::string_view format) {
  constexpr std::array kChains = {"mpeg-ts"sv, "mpeg-ps"sv, "mp3"sv, "aac"sv};
  return std::ranges::find(kChains, format) == kChains.end();
}

bool notices_foreign_clusters(std::string_view format) {
  const FormatWord* found = find(format);
  return found != nullptr && found->notices;
}

std::string_view extension_of(std::string_view format) {
  const auto* found = std::ranges::find(kExtensions, format, [](const auto& e) { return e.first; });
  return found == kExtensions.end() ? format : found->second;
}

bool may_be_called(std::string_view format, std::string_view extension) {
  return !extension.empty() &&
         (extension == extension_of(format) ||
          std::ranges::find(kFurtherExtensions, std::pair(format, extension)) !=
              kFurtherExtensions.end());
}

std::string_view known_format(std::string_view word) {
  const FormatWord* found = find(word);
  return found == nullptr ? std::string_view() : found->format;
}

std::string_view to_text(Level level) { return kLevels[static_cast<size_t>(level)]; }

std::optional<Level> level_named(std::string_view word) {
  const auto* found = std::ranges::find(kLevels, word);
  if (found == kLevels.end()) return std::nullopt;
  return static_cast<Level>(found - kLevels.begin());
}

}  // namespace undershelf::content
