// FLAC: RFC 9639. Frames carry two checksums: where one ends is where the next one begins whose
// head holds, if the frame's own checksum ends there.
#include <algorithm>
#include <array>

#include "content/families.h"

namespace undershelf::content {
namespace {

constexpr size_t kOrdinaryFrame = 64 << 10;  // bytes

std::string_view recognise(Bytes& bytes) { return bytes.has(0, "fLaC") ? "flac" : ""; }

constexpr std::array<uint16_t, 256> make_table16() {
  std::array<uint16_t, 256> table{};
  for (unsigned i = 0; i < 256; ++i) {
    unsigned crc = i << 8;
    for (int bit = 0; bit < 8; ++bit) crc = crc << 1 ^ ((crc & 0x8000) != 0 ? 0x8005U : 0);
    table[i] = static_cast<uint16_t>(crc);
  }
  return table;
}
constexpr std::array<uint16_t, 256> kTable16 = make_table16();

uint8_t crc8(std::span<const std::byte> head) {
  unsigned crc = 0;
  for (const std::byte b : head) {
    crc ^= std::to_integer<unsigned>(b);
    for (int bit = 0; bit < 8; ++bit) crc = crc << 1 ^ ((crc & 0x80) != 0 ? 0x107U : 0);
  }
  return static_cast<uint8_t>(crc);
}

// Bytes of the frame header that `bytes` begin with (RFC 9639, 9.1); 0 if it is none.
size_t header_length(std::span<const std::byte> bytes) {
  if (bytes.size() < 16) return 0;
  const auto byte = [&](size_t i) { return std::to_integer<unsigned>(bytes[i]); };
  if (byte(0) != 0xFF || (byte(1) & 0xFE) != 0xF8) return 0;
  const unsigned block = byte(2) >> 4;
  const unsigned rate = byte(2) & 0xF;
  if (block == 0 || rate == 0xF || (byte(3) >> 4) > 10 || (byte(3) & 1) != 0) return 0;
  size_t length = 5;
  for (unsigned lead = byte(4); (lead & 0xC0) == 0xC0; lead = lead << 1 & 0xFF) ++length;
  if (length > 11) return 0;
  length += block == 6 ? 1 : block == 7 ? 2 : 0;
  length += rate == 12 ? 1 : rate == 13 || rate == 14 ? 2 : 0;
  if (length >= bytes.size() || crc8(bytes.first(length)) != byte(length)) return 0;
  return length + 1;
}

// Samples of the frame whose header, which holds, `bytes` begin with (RFC 9639, 9.1.1).
uint64_t samples_of(std::span<const std::byte> bytes) {
  const auto byte = [&](size_t i) { return std::to_integer<uint64_t>(bytes[i]); };
  const uint64_t block = byte(2) >> 4;
  size_t behind = 5;  // the number of the frame
  for (uint64_t lead = byte(4); (lead & 0xC0) == 0xC0; lead = lead << 1 & 0xFF) ++behind;
  if (block == 1) return 192;
  if (block < 6) return 576U << (block - 2);
  if (block == 6) return byte(behind) + 1;
  if (block == 7) return (byte(behind) << 8 | byte(behind + 1)) + 1;
  return 256U << (block - 8);
}

// Bytes of the frame that begins at `at`, of the next `most`; 0 if its checksum holds nowhere.
// `open`: the last one may be followed by what is not its own.
uint64_t frame_length(Bytes& bytes, uint64_t at, size_t most, bool open) {
  const auto frame = bytes.at(at, most);
  const size_t head = header_length(frame);
  if (head == 0) return 0;
  const bool to_the_end = !open && at + frame.size() == bytes.size();
  unsigned crc = 0;  // of all before byte i: with a frame's own checksum behind it, it is 0
  for (size_t i = 0; i < frame.size(); ++i) {
    const bool here = i > head + 2 && crc == 0;
    if (here && header_length(frame.subspan(i)) != 0) return i;
    crc = (crc << 8 & 0xFFFF) ^ kTable16[crc >> 8 ^ std::to_integer<unsigned>(frame[i])];
  }
  return to_the_end && crc == 0 ? frame.size() : 0;
}

// Bytes of the last frame, which what is not its own follows: up to the first place, from the
// smallest frame's length on (RFC 9639, 8.2), at which its checksum stands. 0: there is none.
uint64_t last_frame_length(Bytes& bytes, uint64_t at) {
  const uint64_t least = uint64_t{bytes.be32(4 + 4 + 4)} >> 8, most = bytes.be32(4 + 4 + 7) >> 8;
  const auto frame = bytes.at(at, most == 0 ? Bytes::kMostAtOnce : most);
  const size_t head = header_length(frame);
  if (head == 0) return 0;
  unsigned crc = 0;
  for (size_t i = 0; i < frame.size(); ++i) {
    if (i > head + 2 && i >= least && crc == 0) return i;
    crc = (crc << 8 & 0xFFFF) ^ kTable16[crc >> 8 ^ std::to_integer<unsigned>(frame[i])];
  }
  return crc == 0 ? frame.size() : 0;
}

// `open`: the file may be followed by what is not its own.
Walk frames(Bytes& bytes, bool open) {
  uint64_t at = 4;
  for (bool last = false; !last;) {
    const uint32_t head = bytes.be32(at);
    const uint64_t length = head & 0xFFFFFF;
    if (bytes.at(at, 4).size() < 4 || at + 4 + length > bytes.size()) {
      return broken(at, "It ends inside its head.");
    }
    if ((head >> 24 & 0x7F) == 127) return broken(at, "Its head is damaged.");
    last = head >> 31 != 0;
    at += 4 + length;
  }
  const uint64_t told = bytes.be64(18) & 0xFFFFFFFFF;  // samples in all (8.2); 0: not known
  uint64_t samples = 0;
  while (at < bytes.size() && (!open || told == 0 || samples < told)) {
    uint64_t length = frame_length(bytes, at, kOrdinaryFrame, open);
    if (length == 0) length = frame_length(bytes, at, Bytes::kMostAtOnce, open);
    const auto head = bytes.at(at, 16);
    const uint64_t more = header_length(head) == 0 ? 0 : samples_of(head);
    if (length == 0 && open && (told == 0 || samples + more == told)) {
      const uint64_t last = last_frame_length(bytes, at);
      if (last > 0) return ended(Level::consistent, at + last);
    }
    if (length == 0) return broken(at, "The checksum of a frame fails.");
    at += length;
    samples += more;
  }
  if (samples < told) return broken(at, "It ends before its last frame.");
  return ended(Level::verified, at);
}

bool part_holds(Bytes& bytes, uint64_t at, bool last) {
  if (last) return last_frame_length(bytes, at) > 0;
  constexpr uint64_t kNextHeader = 16;
  const uint64_t most = bytes.be32(4 + 4 + 7) >> 8;  // of a frame (8.2); 0: not known
  const uint64_t room = most == 0 ? kOrdinaryFrame : std::min<uint64_t>(most, kOrdinaryFrame);
  return frame_length(bytes, at, room + kNextHeader, true) > 0;
}

Walk walk(Bytes& bytes, std::string_view) { return frames(bytes, false); }
Walk walk_open(Bytes& bytes, std::string_view) { return frames(bytes, true); }

void describe(Bytes& bytes, std::string_view, Description& found) {
  const uint64_t rate = bytes.be32(18) >> 12;
  const uint64_t samples = bytes.be64(18) & 0xFFFFFFFFF;
  if (rate > 0) found.milliseconds = samples * 1000 / rate;
  uint64_t at = 4;
  for (int block = 0; block < 128; ++block) {
    constexpr uint32_t kComment = 4;
    const uint32_t head = bytes.be32(at);
    if ((head >> 24 & 0x7F) == kComment) describe_vorbis(bytes, at + 4, found);
    if (head >> 31 != 0) break;
    at += 4 + uint64_t{head & 0xFFFFFF};
  }
}

}  // namespace

const Family kFlac{.recognise = recognise,
                   .walk = walk,
                   .walk_open = walk_open,
                   .part_holds = part_holds,
                   .describe = describe};

}  // namespace undershelf::content
