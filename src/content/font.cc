// Fonts: OpenType (ISO/IEC 14496-22, 4.4): tables with a sum each; WOFF and WOFF2 tell their
// length.
#include <algorithm>

#include "content/families.h"

namespace undershelf::content {
namespace {

std::string_view recognise(Bytes& bytes) {
  if (bytes.has(0, "wOFF") || bytes.has(0, "wOF2")) return "woff";
  const uint32_t tables = bytes.be16(4);
  const bool known = bytes.be32(0) == 0x00010000 || bytes.has(0, "true") || bytes.has(0, "OTTO");
  const bool named = bytes.u8(12) >= 'A' && bytes.u8(12) <= 'z' && bytes.u8(13) >= ' ';
  return known && tables > 0 && tables < 128 && named ? "font" : "";
}

// The sum of a table, in words; `head` leaves out its own field for the sum of all.
uint32_t sum_of(Bytes& bytes, uint64_t at, uint64_t length, bool head) {
  uint32_t sum = 0;
  for (uint64_t done = 0; done < length;) {
    const auto part = bytes.at(at + done, std::min<uint64_t>(length - done, Bytes::kMostAtOnce));
    if (part.empty()) break;
    for (size_t i = 0; i < part.size(); ++i) {
      const uint64_t byte = done + i;
      if (head && byte / 4 == 2) continue;
      sum += std::to_integer<uint32_t>(part[i]) << (24 - 8 * (byte & 3));
    }
    done += part.size();
  }
  return sum;
}

Walk walk(Bytes& bytes, std::string_view format) {
  if (format == "woff") {
    const uint64_t end = bytes.be32(8);
    if (end > bytes.size()) return broken(bytes.size(), "It is shorter than its header says.");
    return ended(Level::consistent, end);
  }
  uint64_t end = 12;
  uint64_t wrong = UINT64_MAX;
  for (uint64_t i = 0; i < bytes.be16(4); ++i) {
    const uint64_t record = 12 + i * 16;
    const uint64_t at = bytes.be32(record + 8);
    const uint64_t length = bytes.be32(record + 12);
    if (at + length > bytes.size())
      return broken(bytes.size(), "It is shorter than its header says.");
    end = std::max({end, record + 16, at + length});
    const bool head = bytes.has(record, "head");
    if (sum_of(bytes, at, length, head) != bytes.be32(record + 4)) wrong = std::min(wrong, at);
  }
  if (wrong != UINT64_MAX) return broken(wrong, "The sum of a table fails.");
  // Tables are filled up to four bytes.
  return ended(Level::verified, std::min((end + 3) / 4 * 4, bytes.size()));
}

void describe(Bytes& bytes, std::string_view format, Description& found) {
  if (format == "woff") return;
  for (uint64_t i = 0; i < bytes.be16(4); ++i) {
    const uint64_t record = 12 + i * 16;
    if (!bytes.has(record, "name")) continue;
    // The naming table (5.2): the full name, as Windows has it.
    const uint64_t table = bytes.be32(record + 8);
    for (uint64_t n = 0; n < bytes.be16(table + 2); ++n) {
      const uint64_t name = table + 6 + n * 12;
      if (name > bytes.size()) return;
      constexpr uint16_t kWindows = 3, kFullName = 4;
      if (bytes.be16(name) != kWindows || bytes.be16(name + 6) != kFullName) continue;
      const uint64_t at = table + bytes.be16(table + 4) + bytes.be16(name + 10);
      found.title.put(from_utf16(text_at(bytes, at, bytes.be16(name + 8)), true));
      return;
    }
  }
}

}  // namespace

const Family kFont{.recognise = recognise, .walk = walk, .describe = describe};

}  // namespace undershelf::content
