// Packed files whose content only a decoder tells: gzip (RFC 1952), bzip2, xz, Zstandard (RFC
// 8878), LZ4, 7z, RAR, Cabinet ([MS-CAB] 2.1).
#include <array>

#include "content/families.h"

namespace undershelf::content {
namespace {

struct Mark {
  std::string_view mark, format;
};
constexpr std::array kMarks = {
    Mark{"\x1F\x8B\x08", "gzip"},
    Mark{"\xFD"
         "7zXZ",
         "xz"},
    Mark{"\x28\xB5\x2F\xFD", "zstd"},
    Mark{"\x04\x22\x4D\x18", "lz4"},
    Mark{"7z\xBC\xAF\x27\x1C", "7z"},
    Mark{"Rar!\x1A\x07", "rar"},
    Mark{std::string_view("MSCF\0\0\0\0", 8), "cab"},
};

std::string_view recognise(Bytes& bytes) {
  for (const auto& [mark, format] : kMarks) {
    if (bytes.has(0, mark)) return format;
  }
  const uint8_t level = bytes.u8(3);
  const bool bzip2 = bytes.has(0, "BZh") && level >= '1' && level <= '9' && bytes.has(4, "1AY&SY");
  return bzip2 ? "bzip2" : "";
}

Walk walk(Bytes& bytes, std::string_view format) {
  if (format == "7z") {
    const uint64_t at = bytes.le64(12);
    const uint64_t length = bytes.le64(20);
    constexpr uint64_t kHead = 32;
    if (at > bytes.size() || length > bytes.size() || kHead + at + length > bytes.size()) {
      return broken(bytes.size(), "Its directory, which stands at the end, is missing.");
    }
    return ended(Level::consistent, kHead + at + length);
  }
  if (format == "cab") {
    const uint64_t size = bytes.le32(8);
    if (size > bytes.size()) return broken(bytes.size(), "It is shorter than its header says.");
    return ended(Level::consistent, size);
  }
  return endless(0);
}

void describe(Bytes& bytes, std::string_view format, Description& found) {
  constexpr uint8_t kExtra = 4, kName = 8;
  if (format != "gzip" || (bytes.u8(3) & kName) == 0 || (bytes.u8(3) & kExtra) != 0) return;
  const std::string name = text_at(bytes, 10, 256);
  found.title.put(from_any(name.substr(0, std::min(name.find('\0'), name.size()))));
}

// Frame after frame (RFC 8878, 3.1): blocks tell their lengths, the last one that it is.
Walk zstd(Bytes& bytes) {
  uint64_t at = 0;
  while (bytes.has(at, "\x28\xB5\x2F\xFD")) {
    const uint8_t head = bytes.u8(at + 4);
    constexpr std::array<uint64_t, 4> kIdBytes = {0, 1, 2, 4}, kSizeBytes = {0, 2, 4, 8};
    const bool single = (head & 0x20) != 0;
    const uint64_t size = head >> 6 == 0 ? (single ? 1 : 0) : kSizeBytes[head >> 6];
    at += 5 + (single ? 0 : 1) + kIdBytes[head & 3] + size;
    for (bool last = false; !last;) {
      const uint32_t block = bytes.le32(at) & 0xFFFFFF;
      const uint32_t kind = block >> 1 & 3;
      if (kind == 3 || at + 3 > bytes.size()) return broken(at, "No block begins where one must.");
      last = (block & 1) != 0;
      at += 3 + (kind == 1 ? 1 : uint64_t{block >> 3});
    }
    if ((head & 4) != 0) at += 4;
  }
  return at > bytes.size() ? broken(bytes.size(), "It ends inside a block.")
                           : ended(Level::consistent, at);
}

// The same for LZ4 frames (LZ4 frame format, 1.6): a block of length 0 ends them.
Walk lz4(Bytes& bytes) {
  const uint8_t flags = bytes.u8(4);
  uint64_t at = 7 + ((flags & 8) != 0 ? 8 : 0) + ((flags & 1) != 0 ? 4 : 0);
  for (;;) {
    const uint32_t length = bytes.le32(at);
    if (at + 4 > bytes.size()) return broken(bytes.size(), "It ends inside a block.");
    at += 4;
    if (length == 0) break;
    at += (length & 0x7FFFFFFF) + ((flags & 0x10) != 0 ? 4 : 0);
  }
  if ((flags & 4) != 0) at += 4;
  return at > bytes.size() ? broken(bytes.size(), "It ends inside a block.")
                           : ended(Level::consistent, at);
}

Walk walk_open(Bytes& bytes, std::string_view format) {
  if (format == "zstd") return zstd(bytes);
  return format == "lz4" ? lz4(bytes) : walk(bytes, format);
}

}  // namespace

const Family kPacked{
    .recognise = recognise, .walk = walk, .walk_open = walk_open, .describe = describe};

}  // namespace undershelf::content
