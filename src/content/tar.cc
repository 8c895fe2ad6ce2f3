// tar: POSIX.1-2017, pax, "ustar Interchange Format": heads of 512 bytes with a sum each.
#include <algorithm>

#include "content/families.h"
#include "content/starts.h"
#include "model/blank.h"

namespace undershelf::content {
namespace {

constexpr uint64_t kBlock = 512;

std::string_view recognise(Bytes& bytes) { return bytes.has(kTarMark, "ustar") ? "tar" : ""; }

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

// Behind the blank blocks that end it: two, and then as many as fill what is written at once.
uint64_t behind_blank(Bytes& bytes, uint64_t at, bool open) {
  constexpr uint64_t kRecord = 20 * kBlock;
  const uint64_t most = open ? (at + 2 * kBlock + kRecord - 1) / kRecord * kRecord : bytes.size();
  uint64_t behind = at;
  while (behind + kBlock <= std::min(most, bytes.size())) {
    const auto block = bytes.at(behind, kBlock);
    if (block.size() < kBlock || !is_zeros(block)) break;
    behind += kBlock;
  }
  return open && behind < most ? std::min(behind, at + 2 * kBlock) : behind;
}

// `open`: the file may be followed by what is not its own.
Walk members(Bytes& bytes, bool open) {
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
    if (blank) return ended(Level::consistent, behind_blank(bytes, at, open));
    if (sum != number(bytes, at + 148, 8)) return broken(at, "The sum of a member's head fails.");
    const uint8_t kind = bytes.u8(at + 156);
    const bool has_content = kind != '1' && kind != '2' && kind != '5' && kind != '6';
    const uint64_t length = has_content ? number(bytes, at + 124, 12) : 0;
    if (length > bytes.size()) return broken(at, "It ends inside a member.");
    at += kBlock + (length + kBlock - 1) / kBlock * kBlock;
  }
  return broken(std::min(at, bytes.size()), "It ends before its end mark.");
}

Walk walk(Bytes& bytes, std::string_view) { return members(bytes, false); }
Walk walk_open(Bytes& bytes, std::string_view) { return members(bytes, true); }

void describe(Bytes& bytes, std::string_view, Description& found) {
  const std::string name = text_at(bytes, 0, 100);
  found.title.put(from_any(name.substr(0, std::min(name.find('\0'), name.size()))));
}

}  // namespace

const Family kTar{
    .recognise = recognise, .walk = walk, .walk_open = walk_open, .describe = describe};

}  // namespace undershelf::content
