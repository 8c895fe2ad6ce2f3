// Ogg: pages with checksums and numbers (RFC 3533, 6).
#include <array>
#include <cstring>
#include <map>

#include "content/families.h"

namespace undershelf::content {
namespace {

std::string_view recognise(Bytes& bytes) {
  if (!bytes.has(0, std::string_view("OggS\0", 5))) return {};
  const uint64_t body = 27 + uint64_t{bytes.u8(26)};
  if (bytes.has(body, "OpusHead")) return "opus";
  if (bytes.has(body, "\x80theora")) return "ogv";
  return "ogg";
}

constexpr std::array<uint32_t, 256> make_table() {
  std::array<uint32_t, 256> table{};
  for (uint32_t i = 0; i < 256; ++i) {
    uint32_t crc = i << 24;
    for (int bit = 0; bit < 8; ++bit) crc = crc << 1 ^ ((crc >> 31) != 0 ? 0x04C11DB7U : 0);
    table[i] = crc;
  }
  return table;
}
constexpr std::array<uint32_t, 256> kTable = make_table();

// Of a page, whose own checksum counts as zero.
uint32_t crc_of(std::span<const std::byte> page) {
  uint32_t crc = 0;
  for (size_t i = 0; i < page.size(); ++i) {
    const uint8_t byte = i >= 22 && i < 26 ? 0 : std::to_integer<uint8_t>(page[i]);
    crc = crc << 8 ^ kTable[(crc >> 24) ^ byte];
  }
  return crc;
}

Walk walk(Bytes& bytes, std::string_view) {
  struct Stream {
    uint32_t next = 0;  // page
    bool ended = false;
  };
  std::map<uint32_t, Stream> streams;
  uint64_t at = 0;
  while (at < bytes.size() && bytes.has(at, "OggS")) {
    const uint8_t segments = bytes.u8(at + 26);
    uint64_t length = 27 + uint64_t{segments};
    for (uint8_t i = 0; i < segments; ++i) length += bytes.u8(at + 27 + i);
    const uint8_t flags = bytes.u8(at + 5);
    const uint32_t serial = bytes.le32(at + 14);
    const uint32_t number = bytes.le32(at + 18);
    const uint32_t stored = bytes.le32(at + 22);
    const auto page = bytes.at(at, length);
    if (page.size() < length) return broken(at, "It ends inside a page.");
    if (crc_of(page) != stored) return broken(at, "The checksum of a page fails.");
    constexpr uint8_t kFirst = 2, kLast = 4;
    Stream& stream = streams[serial];
    if ((flags & kFirst) != 0) stream = {};
    if (number != stream.next) return broken(at, "A page is not the next one of its stream.");
    stream.next = number + 1;
    stream.ended = (flags & kLast) != 0;
    if (streams.size() > 256) return broken(at, "It has more streams than can be.");
    at += length;
  }
  for (const auto& [serial, stream] : streams) {
    if (!stream.ended) return broken(at, "It ends before its last page.");
  }
  return ended(Level::verified, at);
}

// RFC 3533, 6: behind the page at `at`.
uint64_t page_end(Bytes& bytes, uint64_t at) {
  uint64_t end = at + 27 + bytes.u8(at + 26);
  for (uint8_t i = 0; i < bytes.u8(at + 26); ++i) end += bytes.u8(at + 27 + i);
  return end;
}

// How long it plays, as the last page of its stream counts (RFC 3533, 6): samples of Vorbis (its
// specification, 4.2.2), of Opus 48,000 a second after those to be skipped (RFC 7845, 4).
void describe_length(Bytes& bytes, Description& found) {
  constexpr uint64_t kLargestPage = 65'307, kMostSamples = uint64_t{1} << 50;
  const uint64_t body = 27 + bytes.u8(26);
  const bool opus = bytes.has(body, "OpusHead");
  const uint64_t rate = opus ? 48'000 : bytes.has(body, "\x01vorbis") ? bytes.le32(body + 12) : 0;
  const uint64_t skipped = opus ? bytes.le16(body + 10) : 0;
  const uint64_t first = bytes.size() - std::min(bytes.size(), 2 * kLargestPage);
  const std::string tail = text_at(bytes, first, 2 * kLargestPage);
  for (size_t at = tail.rfind("OggS"); rate > 0 && at != std::string::npos;
       at = at == 0 ? std::string::npos : tail.rfind("OggS", at - 1)) {
    const uint64_t samples = bytes.le64(first + at + 6);
    if (bytes.le32(first + at + 14) != bytes.le32(14) || samples >= kMostSamples) continue;
    found.milliseconds = (samples - std::min(samples, skipped)) * 1000 / rate;
    return;
  }
}

void describe(Bytes& bytes, std::string_view, Description& found) {
  describe_length(bytes, found);
  // The second page of a stream begins with its comment.
  const uint64_t page = page_end(bytes, 0);
  const uint64_t body = page + 27 + bytes.u8(page + 26);
  if (bytes.has(body, "\x03vorbis")) describe_vorbis(bytes, body + 7, found);
  if (bytes.has(body, "OpusTags")) describe_vorbis(bytes, body + 8, found);
}

std::optional<uint64_t> part_end(Bytes& bytes, uint64_t at) { return page_end(bytes, at); }

bool begins_part(Bytes& bytes, uint64_t at, uint64_t) {
  return bytes.has(at, std::string_view("OggS\0", 5));
}

}  // namespace

const Family kOgg{.recognise = recognise,
                  .walk = walk,
                  .part_end = part_end,
                  .begins_part = begins_part,
                  .describe = describe};

}  // namespace undershelf::content
