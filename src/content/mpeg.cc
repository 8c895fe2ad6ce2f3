// MPEG transport streams (ISO/IEC 13818-1, 2.4.3: packets with counters, also with time stamps of
// four bytes before them) and program streams (2.5.3: packs and packets of stated length).
#include <array>

#include "content/families.h"

namespace undershelf::content {
namespace {

constexpr uint64_t kPacket = 188;
constexpr uint8_t kSync = 0x47;

// Bytes from one packet to the next; 0 if this is no transport stream.
uint64_t step_of(Bytes& bytes) {
  for (const uint64_t step : {kPacket, kPacket + 4}) {
    const uint64_t ahead = step - kPacket;
    bool all = true;
    for (uint64_t i = 0; i < 5 && all; ++i) all = bytes.u8(ahead + i * step) == kSync;
    if (all) return step;
  }
  return 0;
}

std::string_view recognise(Bytes& bytes) {
  if (bytes.be32(0) == 0x1BA) return "mpeg-ps";
  return step_of(bytes) != 0 ? "mpeg-ts" : "";
}

constexpr std::string_view kNoPacket = "No packet begins where one must.";

Walk transport(Bytes& bytes) {
  const uint64_t step = step_of(bytes);
  const uint64_t ahead = step - kPacket;
  std::array<uint8_t, 8192> counters;
  counters.fill(0xFF);
  uint64_t at = 0;
  for (; at + step <= bytes.size(); at += step) {
    const uint32_t head = bytes.be32(at + ahead);
    if (head >> 24 != kSync) return broken(at, kNoPacket);
    const uint32_t stream = head >> 8 & 0x1FFF;
    const bool payload = (head & 0x10) != 0;
    const bool jump = (head & 0x20) != 0 && bytes.u8(at + ahead + 4) > 0 &&
                      (bytes.u8(at + ahead + 5) & 0x80) != 0;
    const auto counter = static_cast<uint8_t>(head & 0xF);
    uint8_t& last = counters[stream];
    if (stream != 0x1FFF && payload) {
      const bool follows = counter == last || counter == ((last + 1) & 0xF);
      if (last != 0xFF && !jump && !follows) {
        return broken(at, "A packet is not the next one of its stream.");
      }
      last = counter;
    }
  }
  return at == bytes.size() ? ended(Level::consistent, at) : broken(at, "It ends inside a packet.");
}

Walk program(Bytes& bytes) {
  uint64_t at = 0;
  while (at + 4 <= bytes.size()) {
    const uint32_t code = bytes.be32(at);
    if (code == 0x1B9) return ended(Level::consistent, at + 4);
    if (code == 0x1BA) {
      const bool second = (bytes.u8(at + 4) & 0xC0) == 0x40;
      at += second ? 14 + (bytes.u8(at + 13) & 7) : 12;
    } else if (code >= 0x1BB && code <= 0x1FF) {
      at += 6 + uint64_t{bytes.be16(at + 4)};
    } else {
      return broken(at, kNoPacket);
    }
    if (at > bytes.size()) return broken(bytes.size(), "It ends inside a packet.");
  }
  return endless(at);
}

Walk walk(Bytes& bytes, std::string_view format) {
  return format == "mpeg-ts" ? transport(bytes) : program(bytes);
}

Walk walk_open(Bytes& bytes, std::string_view format) {
  constexpr uint64_t kLeast = 16 << 10;  // bytes of packets
  const Walk found = walk(bytes, format);
  const bool ends =
      found.level == Level::broken && found.why == kNoPacket && found.sound_to >= kLeast;
  // Packets may be the rest of a file; its first one tells what follows (2.4.4).
  const uint32_t stream = bytes.be32(step_of(bytes) - kPacket) >> 8 & 0x1FFF;
  constexpr uint32_t kPrograms = 0, kServices = 0x11;
  if (ends && format == "mpeg-ts" && stream != kPrograms && stream != kServices) {
    return endless(found.sound_to);
  }
  return ends ? ended(Level::consistent, found.sound_to) : found;
}

}  // namespace

const Family kMpeg{recognise, walk, walk_open};

}  // namespace undershelf::content
