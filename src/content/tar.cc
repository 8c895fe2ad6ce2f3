// tar: POSIX.1-2017, pax, "ustar Interchange Format": heads of 512 bytes with a sum each.
#include "content/families.h"

namespace undershelf::content {
namespace {

constexpr uint64_t kBlock = 512;

std::string_view recognise(Bytes& bytes) { return bytes.has(257, "ustar") ? "tar" : ""; }

// A number in octal digits, or in base 256 where it begins with 0x80.
uint64_t number(Bytes& bytes, uint64_t at, int digits) {
  uint64_t value = 0;
  if (bytes.u8(at) == 0x80) {
    for (int i = digits - 8; i < digits; ++i) value = value << 8 | bytes.u8(at + i);
    return value;
  }
  for (int i = 0; i < digits; ++i) {
    const uint8_t c = bytes.u8(at + i);
    if (c >= '0' && c <= '7') value = value << 3 | (c - '0');
  }
  return value;
}

Walk walk(Bytes& bytes, std::string_view) {
  uint64_t at = 0;
  while (at + kBlock <= bytes.size()) {
    const auto head = bytes.at(at, kBlock);
    if (head.size() < kBlock) return broken(at, "It ends inside a head.");
    uint64_t sum = 0;
    bool blank = true;
    for (size_t i = 0; i < kBlock; ++i) {
      const auto byte = std::to_integer<unsigned>(head[i]);
      blank = blank && byte == 0;
      sum += i >= 148 && i < 156 ? ' ' : byte;
    }
    if (blank) {
      // Two blank blocks, and then as many as fill what is written at once.
      while (at + kBlock <= bytes.size() && bytes.le64(at) == 0 && bytes.u8(at + 8) == 0)
        at += kBlock;
      return ended(Level::consistent, at);
    }
    if (sum != number(bytes, at + 148, 8)) return broken(at, "The sum of a member's head fails.");
    const uint8_t kind = bytes.u8(at + 156);
    const bool has_content = kind != '1' && kind != '2' && kind != '5' && kind != '6';
    const uint64_t length = has_content ? number(bytes, at + 124, 12) : 0;
    if (length > bytes.size()) return broken(at, "It ends inside a member.");
    at += kBlock + (length + kBlock - 1) / kBlock * kBlock;
  }
  return broken(std::min(at, bytes.size()), "It ends before its end mark.");
}

}  // namespace

const Family kTar{recognise, walk};

}  // namespace undershelf::content
