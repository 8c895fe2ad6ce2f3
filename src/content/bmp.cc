// BMP: [MS-WMF] 2.2.2.9, and the file header of 14 bytes before it, which tells the size.
#include "content/families.h"

namespace undershelf::content {
namespace {

std::string_view recognise(Bytes& bytes) {
  if (!bytes.has(0, "BM") || bytes.le32(6) != 0) return {};
  const uint32_t header = bytes.le32(14);
  const uint32_t pixels = bytes.le32(10);
  const bool known = header == 12 || (header >= 40 && header <= 124);
  return known && pixels >= 14 + header && pixels < (1 << 20) ? "bmp" : "";
}

Walk walk(Bytes& bytes, std::string_view) {
  const uint64_t size = bytes.le32(2);
  uint64_t end = size;
  if (bytes.le32(14) >= 40 && bytes.le32(30) == 0) {  // not compressed: the pixels tell it
    const auto width =
        static_cast<uint64_t>(std::abs(int64_t{static_cast<int32_t>(bytes.le32(18))}));
    const auto height =
        static_cast<uint64_t>(std::abs(int64_t{static_cast<int32_t>(bytes.le32(22))}));
    const uint64_t row = (width * bytes.le16(28) + 31) / 32 * 4;
    if (row > 0 && height > bytes.size() / row + 1) {
      return broken(bytes.size(), "It ends before its last row.");
    }
    end = std::max(bytes.le32(10) + row * height, size <= bytes.size() ? size : 0);
  }
  if (end > bytes.size()) return broken(bytes.size(), "It ends before its last row.");
  return ended(Level::consistent, end);
}

void describe(Bytes& bytes, std::string_view, Description& found) {
  const auto height = static_cast<int32_t>(bytes.le32(22));
  if (bytes.le32(14) >= 40) found.put_size(bytes.le32(18), std::abs(int64_t{height}));
}

}  // namespace

const Family kBmp{.recognise = recognise, .walk = walk, .describe = describe};

}  // namespace undershelf::content
