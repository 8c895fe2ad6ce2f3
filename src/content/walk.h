// What following a file's own structure gives, without decoding it.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string_view>

#include "content/bytes.h"
#include "content/describe.h"

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
  // One sentence, a literal: of `broken` what does not add up; of `consistent`, why it notices less
  // of what is not its own than others of its format do, if so.
  std::string_view why;
};

inline Walk broken(uint64_t at, std::string_view why) {
  return {Level::broken, at, std::nullopt, why};
}
inline Walk ended(Level level, uint64_t end) { return {level, end, end, {}}; }
// It is well so far, and nothing tells where it ends.
inline Walk endless(uint64_t sound_to) { return {Level::unknown, sound_to, std::nullopt, {}}; }

constexpr uint64_t kNeverWritten = UINT64_MAX;

// Formats that are built alike. Stored and shown are the words for the formats, never numbers.
struct Family {
  // The word for the format that begins there, or nothing. Looks at few bytes.
  std::string_view (*recognise)(Bytes& bytes);
  // `format`: what `recognise` said. Reads what it must, in order as far as it can; takes steps in
  // proportion to the bytes that are there.
  Walk (*walk)(Bytes& bytes, std::string_view format);
  // Likewise, where the file may be followed by what is not its own, as on a medium. Only of
  // families that go by the size of the file; null: `walk` does not.
  Walk (*walk_open)(Bytes& bytes, std::string_view format) = nullptr;
  // Of chains of parts: whether a file begins there, and not the rest of one. Looks at few bytes.
  // Null: where one is recognised it does.
  bool (*begins_file)(Bytes& bytes, std::string_view format) = nullptr;
  // Of chains of parts: whether one that is alike stands in `before` and ends where `bytes` begin,
  // so that these are the rest of a file. Looks at few bytes. Null: there is no such thing.
  bool (*goes_on)(Bytes& before, Bytes& bytes, std::string_view format) = nullptr;
  // Of families made of parts that tell their own lengths, and where `walk` says `broken` at the
  // beginning of the part that does not hold: the byte behind the part that begins at `at`, as its
  // head says, and whether the next one may begin at `at`, if the one at `broken` does not hold.
  // With both, what a file goes on with is found behind what is not its own. Null: there is no such
  // thing.
  std::optional<uint64_t> (*part_end)(Bytes& bytes, uint64_t at) = nullptr;
  bool (*begins_part)(Bytes& bytes, uint64_t at, uint64_t broken) = nullptr;
  // Of a file that breaks off in the part which begins at `at`: the byte behind that part as its
  // head says, which may lie behind all there is; kNeverWritten if it is that of a recording whose
  // lengths were to be written at its end. Null: part_end does.
  std::optional<uint64_t> (*stated_end)(Bytes& bytes, uint64_t at) = nullptr;
  // Of families whose parts tell by a sum of their own that they hold, but not how long they are:
  // whether the one that begins at `at` does, and another follows it, or it may be the last. Null:
  // there is no such thing.
  bool (*part_holds)(Bytes& bytes, uint64_t at, bool last) = nullptr;
  // What the file says of itself; null: files of the family say nothing. Looks at few bytes.
  void (*describe)(Bytes& bytes, std::string_view format, Description& found) = nullptr;
};

struct Recognised {
  std::string_view format;  // empty: none that is known
  const Family* family = nullptr;
};
Recognised recognise(Bytes& bytes);
// As Family::walk_open, of what was recognised. `end` says where the file ends, if that is told.
Walk walk_open(Bytes& bytes, const Recognised& recognised);
// Where the first 4096 bytes of zeros before `end` begin; `end` if there are none. Zeros may be
// codes of what is packed, but where it breaks off behind so many of them they are none.
uint64_t before_zeros(Bytes& bytes, uint64_t end);
// As Family::stated_end, and 0 if nothing states it.
uint64_t stated_end(Bytes& bytes, const Recognised& recognised, uint64_t at);
void describe(Bytes& bytes, const Recognised& recognised, Description& found);

// The type of a format by content, as types.h names them for a format by name; empty if none.
std::string_view type_of(std::string_view format);
// What names of its files end with, without the dot.
std::string_view extension_of(std::string_view format);
// Whether a file of a format may end with that, in lower case and without the dot.
bool may_be_called(std::string_view format, std::string_view extension);
// Whether files of a format say where they end. Others are chains of parts: where no further one
// follows they end, or something else lies there.
bool tells_its_end(std::string_view format);
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
