#include "content/walk.h"

#include <algorithm>
#include <array>

#include "content/families.h"

namespace undershelf::content {
namespace {

// The order counts: what is told by its first bytes comes before what is told by little.
constexpr std::array kFamilies = {
    &kPng, &kJpeg,   &kGif,     &kTiff,      &kPsd,    &kIsobmff, &kRiff,      &kMatroska,
    &kAsf, &kOgg,    &kFlac,    &kZip,       &kPacked, &kTar,     &kPdf,       &kCompound,
    &kBmp, &kSqlite, &kProgram, &kDiscImage, &kFont,   &kMpeg,    &kMpegAudio, &kText,
};

constexpr std::array kWords = {
    FormatWord{"7z", "archive"},         FormatWord{"3gp", "video"},
    FormatWord{"aac", "audio"},          FormatWord{"aiff", "audio"},
    FormatWord{"asf", "video"},          FormatWord{"avi", "video"},
    FormatWord{"avif", "picture"},       FormatWord{"bmp", "picture"},
    FormatWord{"bzip2", "archive"},      FormatWord{"cab", "archive"},
    FormatWord{"compound", "document"},  FormatWord{"cr2", "picture"},
    FormatWord{"cr3", "picture"},        FormatWord{"doc", "document"},
    FormatWord{"docx", "document"},      FormatWord{"elf", "other"},
    FormatWord{"eml", "mail"},           FormatWord{"epub", "document"},
    FormatWord{"flac", "audio"},         FormatWord{"font", "other"},
    FormatWord{"gif", "picture"},        FormatWord{"gzip", "archive"},
    FormatWord{"heic", "picture"},       FormatWord{"html", "document"},
    FormatWord{"icalendar", "document"}, FormatWord{"iso9660", "archive"},
    FormatWord{"jar", "archive"},        FormatWord{"jp2", "picture"},
    FormatWord{"jpeg", "picture"},       FormatWord{"json", "document"},
    FormatWord{"lz4", "archive"},        FormatWord{"m4a", "audio"},
    FormatWord{"m4v", "video"},          FormatWord{"mbox", "mail"},
    FormatWord{"mdb", "database"},       FormatWord{"midi", "audio"},
    FormatWord{"mkv", "video"},          FormatWord{"mov", "video"},
    FormatWord{"mp3", "audio"},          FormatWord{"mp4", "video"},
    FormatWord{"mpeg-ps", "video"},      FormatWord{"mpeg-ts", "video"},
    FormatWord{"msg", "mail"},           FormatWord{"odp", "document"},
    FormatWord{"ods", "document"},       FormatWord{"odt", "document"},
    FormatWord{"ogg", "audio"},          FormatWord{"ogv", "video"},
    FormatWord{"opus", "audio"},         FormatWord{"orf", "picture"},
    FormatWord{"pdf", "document"},       FormatWord{"pe", "other"},
    FormatWord{"png", "picture"},        FormatWord{"postscript", "document"},
    FormatWord{"ppt", "document"},       FormatWord{"pptx", "document"},
    FormatWord{"psd", "picture"},        FormatWord{"pst", "mail"},
    FormatWord{"rar", "archive"},        FormatWord{"rtf", "document"},
    FormatWord{"rw2", "picture"},        FormatWord{"sqlite", "database"},
    FormatWord{"svg", "picture"},        FormatWord{"tar", "archive"},
    FormatWord{"text", "document"},      FormatWord{"tiff", "picture"},
    FormatWord{"vcard", "document"},     FormatWord{"wav", "audio"},
    FormatWord{"webm", "video"},         FormatWord{"webp", "picture"},
    FormatWord{"woff", "other"},         FormatWord{"xls", "document"},
    FormatWord{"xlsx", "document"},      FormatWord{"xml", "document"},
    FormatWord{"xz", "archive"},         FormatWord{"zip", "archive"},
    FormatWord{"zstd", "archive"},
};

const FormatWord* find(std::string_view word) {
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

std::span<const FormatWord> format_words() { return kWords; }

std::string_view type_of(std::string_view format) {
  const FormatWord* found = find(format);
  return found == nullptr ? std::string_view() : found->type;
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
