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

}  // namespace

const Family kPacked{recognise, walk};

}  // namespace undershelf::content
