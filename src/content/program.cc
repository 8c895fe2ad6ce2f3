// Programs: ELF (gABI, chapter 4) and PE (Microsoft PE format, "Section Table"): the furthest byte
// that the tables use.
#include <algorithm>

#include "content/families.h"

namespace undershelf::content {
namespace {

std::string_view recognise(Bytes& bytes) {
  if (bytes.has(0,
                "\x7F"
                "ELF") &&
      bytes.u8(5) <= 2)
    return "elf";
  if (!bytes.has(0, "MZ")) return {};
  return bytes.has(bytes.le32(60), std::string_view("PE\0\0", 4)) ? "pe" : "";
}

Walk up_to(Bytes& bytes, uint64_t end) {
  if (end > bytes.size()) return broken(bytes.size(), "It is shorter than its tables say.");
  return ended(Level::consistent, end);
}

Walk elf(Bytes& bytes) {
  const bool wide = bytes.u8(4) == 2;
  const bool little = bytes.u8(5) == 1;
  const auto half = [&](uint64_t at) -> uint64_t {
    return little ? bytes.le16(at) : bytes.be16(at);
  };
  const auto word = [&](uint64_t at) -> uint64_t {
    if (wide) return little ? bytes.le64(at) : bytes.be64(at);
    return little ? bytes.le32(at) : bytes.be32(at);
  };
  const uint64_t segments = word(wide ? 32 : 28), sections = word(wide ? 40 : 32);
  const uint64_t at = wide ? 54 : 42;
  // Lines of the tables have at least so many bytes.
  const bool too_short = (half(at + 2) > 0 && half(at) < (wide ? 56 : 32)) ||
                         (half(at + 6) > 0 && half(at + 4) < (wide ? 64 : 40));
  if (too_short || segments > bytes.size() || sections > bytes.size()) {
    return up_to(bytes, UINT64_MAX);
  }
  uint64_t end =
      std::max(segments + half(at) * half(at + 2), sections + half(at + 4) * half(at + 6));
  if (end > bytes.size()) return up_to(bytes, end);  // a table that is not all there says no more
  for (uint64_t i = 0; i < half(at + 2); ++i) {
    const uint64_t segment = segments + i * half(at);
    const uint64_t from = word(segment + (wide ? 8 : 4));
    const uint64_t length = word(segment + (wide ? 32 : 16));
    if (from > bytes.size() || length > bytes.size()) return up_to(bytes, UINT64_MAX);
    end = std::max(end, from + length);
  }
  for (uint64_t i = 0; i < half(at + 6); ++i) {
    constexpr uint64_t kNoBits = 8;
    const uint64_t section = sections + i * half(at + 4);
    if ((little ? bytes.le32(section + 4) : bytes.be32(section + 4)) == kNoBits) continue;
    const uint64_t from = word(section + (wide ? 24 : 16));
    const uint64_t length = word(section + (wide ? 32 : 20));
    if (from > bytes.size() || length > bytes.size()) return up_to(bytes, UINT64_MAX);
    end = std::max(end, from + length);
  }
  return up_to(bytes, end);
}

Walk pe(Bytes& bytes) {
  const uint64_t head = bytes.le32(60);
  const uint64_t optional = head + 24;
  const uint64_t table = optional + bytes.le16(head + 20);
  uint64_t end = table + uint64_t{bytes.le16(head + 6)} * 40;
  for (uint64_t i = 0; i < bytes.le16(head + 6); ++i) {
    const uint64_t section = table + i * 40;
    if (bytes.le32(section + 16) == 0) continue;
    end = std::max(end, uint64_t{bytes.le32(section + 20)} + bytes.le32(section + 16));
  }
  // Signatures stand behind all sections.
  const uint64_t directories = optional + (bytes.le16(optional) == 0x20B ? 112 : 96);
  if (bytes.le32(directories - 4) > 4) {
    const uint64_t at = bytes.le32(directories + 32);
    if (at != 0) end = std::max(end, at + bytes.le32(directories + 36));
  }
  return up_to(bytes, end);
}

Walk walk(Bytes& bytes, std::string_view format) {
  return format == "elf" ? elf(bytes) : pe(bytes);
}

}  // namespace

const Family kProgram{recognise, walk};

}  // namespace undershelf::content
