// What following a file's own structure gives, without decoding it.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string_view>

#include "content/bytes.h"

namespace undershelf::content {

enum class Level : uint8_t {
  unknown,     // nothing in the format tells
  broken,      // it does not add up
  consistent,  // the structure adds up to the end; nothing vouches for the bytes
  verified,    // checksums covered all of it
};

struct Walk {
  Level level = Level::unknown;
  uint64_t sound_to = 0;        // bytes from the beginning that add up
  std::optional<uint64_t> end;  // byte behind its last, if its structure says where that is
  std::string_view why;         // of `broken`: one sentence, a literal
};

inline Walk broken(uint64_t at, std::string_view why) {
  return {Level::broken, at, std::nullopt, why};
}
inline Walk ended(Level level, uint64_t end) { return {level, end, end, {}}; }
// It is well so far, and nothing tells where it ends.
inline Walk endless(uint64_t sound_to) { return {Level::unknown, sound_to, std::nullopt, {}}; }

// Formats that are built alike. Stored and shown are the words for the formats, never numbers.
struct Family {
  // The word for the format that begins there, or nothing. Looks at few bytes.
  std::string_view (*recognise)(Bytes& bytes);
  // `format`: what `recognise` said. Reads what it must, in order as far as it can; takes steps in
  // proportion to the bytes that are there.
  Walk (*walk)(Bytes& bytes, std::string_view format);
};

struct Recognised {
  std::string_view format;  // empty: none that is known
  const Family* family = nullptr;
};
Recognised recognise(Bytes& bytes);

// The type of a format by content, as types.h names them for a format by name; empty if none.
std::string_view type_of(std::string_view format);
bool notices_foreign_clusters(std::string_view format);
// The word as it is kept: the same text that lives as long as the program. Empty if it is none.
std::string_view known_format(std::string_view word);

struct FormatWord {
  std::string_view format, type;
  // Whether a cluster of another file inside one is noticed, nearly always: measured
  // (docs/recovery/content.md). Text of another file in a text never is.
  bool notices = false;
};
// All formats that are known by content.
std::span<const FormatWord> format_words();

std::string_view to_text(Level level);
std::optional<Level> level_named(std::string_view word);

}  // namespace undershelf::content
