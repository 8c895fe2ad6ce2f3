// PNG: ISO/IEC 15948, 5. Each chunk has its CRC.
#include <zlib.h>

#include "content/families.h"

namespace undershelf::content {
namespace {

constexpr std::string_view kMark = "\x89PNG\r\n\x1a\n";

std::string_view recognise(Bytes& bytes) { return bytes.has(0, kMark) ? "png" : ""; }

// CRC-32 of a range; nothing if not all of it is there.
std::optional<uint32_t> crc_of(Bytes& bytes, uint64_t from, uint64_t length) {
  uLong crc = crc32(0, nullptr, 0);
  while (length > 0) {
    const auto part = bytes.at(from, std::min<uint64_t>(length, Bytes::kMostAtOnce));
    if (part.empty()) return std::nullopt;
    crc = crc32(crc, reinterpret_cast<const Bytef*>(part.data()), static_cast<uInt>(part.size()));
    from += part.size();
    length -= part.size();
  }
  return static_cast<uint32_t>(crc);
}

Walk walk(Bytes& bytes, std::string_view) {
  uint64_t at = kMark.size();
  for (bool first = true;; first = false) {
    constexpr uint64_t kFrame = 12;  // length, kind, CRC
    const uint64_t length = bytes.be32(at);
    if (bytes.at(at, 8).size() < 8) return broken(at, "It ends before its last chunk.");
    if (length > INT32_MAX) return broken(at, "A chunk has an impossible length.");
    if (first && !bytes.has(at + 4, "IHDR")) return broken(at, "Its first chunk is no header.");
    const auto crc = crc_of(bytes, at + 4, length + 4);
    if (!crc || bytes.at(at + 8 + length, 4).size() < 4) {
      return broken(at, "It ends inside a chunk.");
    }
    if (*crc != bytes.be32(at + 8 + length)) return broken(at, "The checksum of a chunk fails.");
    const bool last = bytes.has(at + 4, "IEND");
    at += kFrame + length;
    if (last) return ended(Level::verified, at);
  }
}

void describe(Bytes& bytes, std::string_view, Description& found) {
  found.put_size(bytes.be32(16), bytes.be32(20));
  uint64_t at = kMark.size();
  for (int chunk = 0; chunk < 64 && !bytes.has(at + 4, "IDAT"); ++chunk) {
    const uint64_t length = bytes.be32(at);
    if (bytes.has(at + 4, "eXIf")) describe_exif(bytes, at + 8, found);
    if (bytes.has(at + 4, "tEXt")) {
      constexpr uint64_t kMost = 512;
      const std::string text = text_at(bytes, at + 8, std::min(length, kMost));
      const size_t end = std::min(text.find('\0'), text.size());
      const std::string value = from_latin1(text.substr(std::min(end + 1, text.size())));
      if (text.substr(0, end) == "Title") found.title.put(value);
      if (text.substr(0, end) == "Author") found.author.put(value);
    }
    at += 12 + length;
  }
}

std::optional<uint64_t> part_end(Bytes& bytes, uint64_t at) {
  const uint64_t length = bytes.be32(at);
  if (length > INT32_MAX) return std::nullopt;
  return at + 12 + length;
}

bool begins_part(Bytes& bytes, uint64_t at, uint64_t) {
  if (bytes.be32(at) > INT32_MAX) return false;
  return bytes.has(at + 4, "IDAT") || bytes.has(at + 4, "IEND") || bytes.has(at + 4, "tEXt");
}

}  // namespace

const Family kPng{.recognise = recognise,
                  .walk = walk,
                  .part_end = part_end,
                  .begins_part = begins_part,
                  .describe = describe};

}  // namespace undershelf::content
