// What kind of content a file has, as far as its name tells.
#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>

namespace undershelf {

// Where a file of a format may read as one repeated byte for a whole cluster.
enum class Blank : unsigned char {
  anywhere,
  not_at_head,  // it begins with marks
  hardly,       // nor inside, but for stuffing: its content is compressed
  never,
};

// What is known of a format by a file's extension. Formats are in one table (types.cc).
struct Format {
  std::string_view extension;  // lower-case ASCII, without the dot
  std::string_view type;       // picture, document, video, audio, archive, mail, database, other
  Blank blank = Blank::anywhere;
  std::string_view magic = {};  // bytes it begins with, from `magic_at` on; empty if it has none
  size_t magic_at = 0;          // bytes
};

// What stands behind the last dot of a name, in lower case; empty if there is none.
std::string extension_in(std::string_view name);
// The format that the extension of `name` stands for; one of type "other" if it is not known.
const Format& format_by_name(std::string_view name);

// Whether the format is plain text, which has no marks of its own.
bool is_text(const Format& format);

// Marks: what files of a format begin with, from their first byte on. Formats that begin alike
// share one. The numbers stand for the marks themselves, and may be kept. `mark_of` is nothing if
// the format has none; `mark_at` tells with which mark bytes begin.
std::optional<uint32_t> mark_of(const Format& format);
std::optional<uint32_t> mark_at(std::span<const std::byte> head);

enum class HeadMatch { fits, differs, unknown };
// Whether `head`, the first bytes of a file, begins as its format does. Text formats fit while
// there is no NUL in them.
HeadMatch match_head(const Format& format, std::span<const std::byte> head);

// All types, in the order in which they are listed to users.
std::span<const std::string_view> type_names();

}  // namespace undershelf
