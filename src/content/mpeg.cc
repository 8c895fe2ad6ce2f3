// MPEG transport streams (ISO/IEC 13818-1, 2.4.3: packets with counters, also with time stamps of
// four bytes before them) and program streams (2.5.3: packs and packets of stated length).
#include <algorithm>
#include <array>
#include <bitset>
#include <utility>

#include "content/families.h"

namespace undershelf::content {
namespace {

constexpr uint64_t kPacket = 188;
constexpr uint8_t kSync = 0x47;
constexpr uint32_t kPack = 0x1BA, kProgramEnd = 0x1B9,
                   kSystemHeader = 0x1BB;  // start codes (2.5.3)

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
  if (bytes.be32(0) == kPack) return "mpeg-ps";
  return step_of(bytes) != 0 ? "mpeg-ts" : "";
}

constexpr std::string_view kEndsInside = "It ends inside a packet.";
constexpr std::string_view kNoPacket = "No packet begins where one must.";

// A walk, and the last packet that was met.
struct Chain {
  Walk walk;
  uint64_t last = 0;  // byte at which it begins
};

// The counters of all streams, each of which follows the one before.
class Counters {
 public:
  Counters() { last_.fill(kNone); }
  enum class Said : uint8_t { nothing, follows, does_not };
  // `head`: the four bytes with which the packet at `at` begins (2.4.3.2).
  Said add(Bytes& bytes, uint64_t at, uint32_t head) {
    const uint32_t stream = head >> 8 & 0x1FFF;
    const bool payload = (head & 0x10) != 0;
    if (stream == kNull || !payload) return Said::nothing;
    const bool jump = (head & 0x20) != 0 && bytes.u8(at + 4) > 0 && (bytes.u8(at + 5) & 0x80) != 0;
    const auto counter = static_cast<uint8_t>(head & 0xF);
    const uint8_t before = std::exchange(last_[stream], counter);
    if (before == kNone || jump) return Said::nothing;
    const bool follows = counter == before || counter == ((before + 1) & 0xF);
    return follows ? Said::follows : Said::does_not;
  }

 private:
  static constexpr uint32_t kNull = 0x1FFF;  // the stream of packets that fill
  static constexpr uint8_t kNone = 0xFF;
  std::array<uint8_t, 8192> last_;
};

Chain transport(Bytes& bytes) {
  const uint64_t step = step_of(bytes);
  const uint64_t ahead = step - kPacket;
  Counters counters;
  uint64_t at = 0, last = 0;
  for (; at + step <= bytes.size(); at += step) {
    const uint32_t head = bytes.be32(at + ahead);
    if (head >> 24 != kSync) return {broken(at, kNoPacket), last};
    if (counters.add(bytes, at + ahead, head) == Counters::Said::does_not) {
      return {broken(at, "A packet is not the next one of its stream."), last};
    }
    last = at;
  }
  return {at == bytes.size() ? ended(Level::consistent, at) : broken(at, kEndsInside), last};
}

// Byte behind the pack or packet of a program stream that begins at `at` (2.5.3.3, 2.5.3.5); 0 if
// none does.
uint64_t behind_packet(Bytes& bytes, uint64_t at) {
  const uint32_t code = bytes.be32(at);
  if (code == kPack) {
    const bool second = (bytes.u8(at + 4) & 0xC0) == 0x40;
    return at + (second ? 14 + (bytes.u8(at + 13) & 7) : 12);
  }
  return code > kPack && code <= 0x1FF ? at + 6 + uint64_t{bytes.be16(at + 4)} : 0;
}

Chain program(Bytes& bytes) {
  uint64_t at = 0, last = 0;
  while (at + 4 <= bytes.size()) {
    if (bytes.be32(at) == kProgramEnd) return {ended(Level::consistent, at + 4), last};
    const uint64_t behind = behind_packet(bytes, at);
    if (behind == 0) return {broken(at, kNoPacket), last};
    last = at;
    at = behind;
    if (at > bytes.size()) return {broken(bytes.size(), kEndsInside), last};
  }
  return {endless(at), last};
}

Chain chain(Bytes& bytes, std::string_view format) {
  return format == "mpeg-ts" ? transport(bytes) : program(bytes);
}

// What leads to no further packet is the one that does not hold.
Walk as_noticed(const Chain& found) {
  const bool is_late = found.walk.level == Level::broken && found.walk.why != kEndsInside;
  return is_late ? broken(found.last, found.walk.why) : found.walk;
}

Walk walk(Bytes& bytes, std::string_view format) { return as_noticed(chain(bytes, format)); }

// Packets may be the rest of a file: its first one tells what follows (2.4.4; 2.5.3.5).
bool begins_file(Bytes& bytes, std::string_view format) {
  if (format == "mpeg-ps") return bytes.be32(behind_packet(bytes, 0)) == kSystemHeader;
  constexpr uint32_t kPrograms = 0, kServices = 0x11;
  const uint32_t stream = bytes.be32(step_of(bytes) - kPacket) >> 8 & 0x1FFF;
  return stream == kPrograms || stream == kServices;
}

Walk walk_open(Bytes& bytes, std::string_view format) {
  constexpr uint64_t kLeast = 16 << 10;  // bytes of packets
  const Chain all = chain(bytes, format);
  const Walk& found = all.walk;
  const bool ends =
      found.level == Level::broken && found.why == kNoPacket && found.sound_to >= kLeast;
  if (ends && !begins_file(bytes, format)) return endless(found.sound_to);
  return ends ? ended(Level::consistent, found.sound_to) : as_noticed(all);
}

std::optional<uint64_t> part_end(Bytes& bytes, uint64_t at) {
  const uint64_t step = step_of(bytes);
  return step > 0 ? at + step : std::max(at, behind_packet(bytes, at));
}

// Whether what begins at `at` is the next of the packets that were met before `broken`. Counters
// and times alone tell it from another recording of the same camera.
class GoesOn {
 public:
  GoesOn(Bytes& bytes, uint64_t at, uint64_t broken) : bytes_(bytes), at_(at), broken_(broken) {}

  bool transport(uint64_t step) {
    const uint64_t ahead = step - kPacket;
    if (bytes_.u8(at_ + ahead) != kSync || bytes_.u8(at_ + ahead + step) != kSync) return false;
    Counters counters;
    uint64_t time = kNoTime;
    for (uint64_t at = broken_ - std::min(broken_ / step, kPackets) * step; at <= broken_;
         at += step) {
      counters.add(bytes_, at + ahead, bytes_.be32(at + ahead));
      const uint64_t reference = reference_in(at + ahead);
      if (reference != kNoTime) time = reference;
    }
    std::bitset<8192> met;
    // Clusters of 64 bytes' multiples cut every third packet of 192 bytes alike, and every 47th of
    // 188.
    const int enough = ahead > 0 ? kEnough + kOfCounter : kEnough;
    int agreeing = ahead > 0 && arrives() ? kOfTime : 0;
    for (uint64_t at = at_; at < at_ + kPackets * step && agreeing < enough; at += step) {
      const uint32_t head = bytes_.be32(at + ahead);
      const uint32_t stream = head >> 8 & 0x1FFF;
      if (head >> 24 != kSync) break;
      const auto said = counters.add(bytes_, at + ahead, head);
      if (said == Counters::Said::does_not) return false;
      if (said == Counters::Said::follows && !met.test(stream)) {
        met.set(stream);
        agreeing += kOfCounter;
      }
      const uint64_t reference = reference_in(at + ahead);
      if (reference != kNoTime && time != kNoTime) {
        if (reference < time || reference - time > kSecond / 2) return false;
        time = kNoTime;
        agreeing += kOfTime;
      }
    }
    return agreeing >= enough;
  }

  bool program() {
    constexpr uint64_t kFollowing = 8;  // packets that must follow
    if (behind_packet(bytes_, at_) == 0) return false;
    const auto [before, most] = times_before();
    bool is_next = false;
    for (uint64_t n = 0; (n < kFollowing || !is_next) && n < kPackets; ++n) {
      const uint32_t code = bytes_.be32(at_);
      if (code == kProgramEnd) return n > 0;
      if (code == kPack) {
        const uint64_t time = time_of(at_);
        is_next = is_next || (time > before && time - before <= most);
        if (!is_next) return false;
      }
      const uint64_t behind = behind_packet(bytes_, at_);
      if (behind == 0 || behind > bytes_.size()) return false;
      at_ = behind;
    }
    return is_next;
  }

 private:
  static constexpr uint64_t kSecond = 27'000'000;  // ticks of the clock (2.4.2.1)
  static constexpr uint64_t kNoTime = UINT64_MAX;
  static constexpr uint64_t kPackets = 4096;  // that are looked at on either side
  // Of 1 in 2^n of others' packets each agrees; so many are enough.
  static constexpr int kOfCounter = 3, kOfTime = 7, kEnough = 13;

  // The reference of the program's clock in a packet (2.4.3.5).
  uint64_t reference_in(uint64_t at) {
    const bool has_one = (bytes_.u8(at + 3) & 0x20) != 0 && bytes_.u8(at + 4) >= 7 &&
                         (bytes_.u8(at + 5) & 0x10) != 0;
    if (!has_one) return kNoTime;
    const uint64_t field = bytes_.be64(at + 6) >> 16;
    return (field >> 15) * 300 + (field & 0x1FF);
  }

  // Whether time goes on little: 30 bits of the same clock stand in front of packets.
  bool arrives() {
    const uint64_t before = bytes_.be32(broken_), now = bytes_.be32(at_);
    return ((now - before) & 0x3FFFFFFF) <= kSecond / 4;
  }

  // The time of a pack (2.5.3.3; ISO/IEC 11172-1, 2.4.3.2), without its extension.
  uint64_t time_of(uint64_t at) {
    const bool second = (bytes_.u8(at + 4) & 0xC0) == 0x40;
    const uint64_t field = bytes_.be64(at + 4);
    if (second) {
      return (field >> 59 & 7) << 30 | (field >> 43 & 0x7FFF) << 15 | (field >> 27 & 0x7FFF);
    }
    return (field >> 57 & 7) << 30 | (field >> 41 & 0x7FFF) << 15 | (field >> 25 & 0x7FFF);
  }

  // The last time before what is broken, and how much later the next may be.
  std::pair<uint64_t, uint64_t> times_before() {
    constexpr uint64_t kLook = 256 << 10;        // bytes
    constexpr uint64_t kMost = 90'000 * 7 / 10;  // ticks (2.5.2.3)
    const uint64_t from = broken_ - std::min(broken_, kLook);
    const auto before = bytes_.at(from, static_cast<size_t>(broken_ + sizeof kPack - from));
    const size_t pack =
        std::string_view(reinterpret_cast<const char*>(before.data()), before.size())
            .find(std::string_view("\0\0\1\xBA", 4));
    if (pack == std::string_view::npos) return {0, 0};
    uint64_t last = 0, longest = 0;
    int times = 0;
    for (uint64_t at = from + pack; at <= broken_;) {
      if (bytes_.be32(at) == kPack) {
        const uint64_t time = time_of(at);
        if (times++ > 0 && time > last) longest = std::max(longest, time - last);
        last = time;
      }
      const uint64_t behind = behind_packet(bytes_, at);
      if (behind == 0) break;
      at = behind;
    }
    return {last, times < 3 ? kMost : std::min(2 * longest, kMost)};
  }

  Bytes& bytes_;
  uint64_t at_;
  const uint64_t broken_;
};

bool begins_part(Bytes& bytes, uint64_t at, uint64_t broken) {
  const uint64_t step = step_of(bytes);
  GoesOn goes_on(bytes, at, broken);
  return step > 0 ? goes_on.transport(step) : goes_on.program();
}

}  // namespace

const Family kMpeg{.recognise = recognise,
                   .walk = walk,
                   .walk_open = walk_open,
                   .begins_file = begins_file,
                   .part_end = part_end,
                   .begins_part = begins_part};

}  // namespace undershelf::content
