// ASF (WMV, WMA): objects of stated length (ASF specification, 2.1).
#include <algorithm>
#include <array>
#include <string_view>

#include "content/families.h"

namespace undershelf::content {
namespace {

constexpr std::string_view kHeader = "\x30\x26\xB2\x75\x8E\x66\xCF\x11\xA6\xD9";

std::string_view recognise(Bytes& bytes) { return bytes.has(0, kHeader) ? "asf" : ""; }

// The packets of the data object at `at`, all of one size (5.2): each begins as the first does.
// Where one does not; nothing if all do.
std::optional<uint64_t> odd_packet(Bytes& bytes, uint64_t at, uint64_t length) {
  constexpr std::string_view kData = "\x36\x26\xB2\x75\x8E\x66\xCF\x11\xA6\xD9";
  constexpr uint64_t kHead = 50;
  const uint64_t count = bytes.le64(at + 40);
  if (!bytes.has(at, kData) || length <= kHead || count == 0 || count > length) return std::nullopt;
  const uint64_t size = (length - kHead) / count;
  if (size * count != length - kHead) return std::nullopt;
  const uint8_t first = bytes.u8(at + kHead);
  for (uint64_t i = 0; i < count; ++i) {
    const uint64_t packet = at + kHead + i * size;
    if (bytes.u8(packet) != first) return packet;
  }
  return std::nullopt;
}

// Whether an object that stands by itself begins there, by the beginning of its name (10.1).
bool is_top(Bytes& bytes, uint64_t at) {
  static constexpr std::array<std::string_view, 5> kNames = {
      "\x30\x26\xB2\x75", "\x36\x26\xB2\x75", std::string_view("\x90\x08\0\x33", 4),
      "\xD3\x29\xE2\xD6", "\xF8\x03\xB1\xFE"};
  return std::ranges::any_of(kNames, [&](std::string_view name) { return bytes.has(at, name); });
}

// `open`: the file may be followed by what is not its own.
Walk objects_of(Bytes& bytes, bool open) {
  uint64_t at = 0;
  int objects = 0;
  while (at + 24 <= bytes.size()) {
    if (open && objects >= 2 && !is_top(bytes, at)) break;
    const uint64_t length = bytes.le64(at + 16);
    if (length < 24) {
      return objects >= 2 ? ended(Level::consistent, at)
                          : broken(at, "No object begins where one must.");
    }
    if (length > bytes.size() - at) return broken(bytes.size(), "It ends inside an object.");
    if (const auto odd = odd_packet(bytes, at, length)) {
      return broken(*odd, "A packet does not begin where one must.");
    }
    at += length;
    ++objects;
  }
  return ended(Level::consistent, at);
}

void describe(Bytes& bytes, std::string_view, Description& found) {
  constexpr std::string_view kContent = "\x33\x26\xB2\x75\x8E\x66\xCF\x11\xA6\xD9";
  uint64_t at = 30;
  for (uint32_t i = 0; i < std::min(bytes.le32(24), 64U); ++i) {
    if (bytes.has(at, kContent)) {
      const uint64_t title = bytes.le16(at + 24), author = bytes.le16(at + 26);
      found.title.put(from_utf16(text_at(bytes, at + 34, title), false));
      found.author.put(from_utf16(text_at(bytes, at + 34 + title, author), false));
    }
    at += bytes.le64(at + 16);
    if (at >= bytes.size()) break;
  }
}

Walk walk(Bytes& bytes, std::string_view) { return objects_of(bytes, false); }
Walk walk_open(Bytes& bytes, std::string_view) { return objects_of(bytes, true); }

}  // namespace

const Family kAsf{
    .recognise = recognise, .walk = walk, .walk_open = walk_open, .describe = describe};

}  // namespace undershelf::content
