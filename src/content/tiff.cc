// TIFF 6.0, section 2, BigTIFF, and the camera raw formats on it: the directories, and the furthest
// byte that a value, a strip or a tile uses.
#include <algorithm>
#include <array>
#include <vector>

#include "content/families.h"

namespace undershelf::content {
namespace {

std::string_view recognise(Bytes& bytes) {
  if (bytes.has(0, std::string_view("II\x2A\0", 4))) {
    if (bytes.has(8, "CR\x02")) return "cr2";
    return "tiff";
  }
  if (bytes.has(0, std::string_view("MM\0\x2A", 4))) return "tiff";
  if (bytes.has(0, std::string_view("IIRO", 4)) || bytes.has(0, "IIRS")) return "orf";
  if (bytes.has(0, std::string_view("IIU\0", 4))) return "rw2";
  return {};
}

constexpr std::array<uint8_t, 14> kValueBytes = {0, 1, 1, 2, 4, 8, 1, 1, 2, 4, 8, 4, 8, 4};
constexpr uint16_t kStrips = 273, kStripBytes = 279, kTiles = 324, kTileBytes = 325;
constexpr uint16_t kJpegAt = 513, kJpegBytes = 514;
constexpr uint16_t kSubDirectories = 330, kExif = 34665, kGps = 34853;
constexpr size_t kMostDirectories = 256, kMostParts = 1 << 20;

class Directories {
 public:
  explicit Directories(Bytes& bytes) : bytes_(bytes), little_(bytes.u8(0) == 'I') {}

  Walk run() {
    todo_.push_back(u32(4));
    while (!todo_.empty() && fault_.empty()) {
      const uint64_t at = todo_.back();
      todo_.pop_back();
      if (at == 0 || std::ranges::find(done_, at) != done_.end()) continue;
      if (done_.size() >= kMostDirectories) break;
      done_.push_back(at);
      directory(at);
    }
    if (!fault_.empty()) return broken(std::min(fault_at_, bytes_.size()), fault_);
    return ended(Level::consistent, end_);
  }

 private:
  uint16_t u16(uint64_t at) { return little_ ? bytes_.le16(at) : bytes_.be16(at); }
  uint32_t u32(uint64_t at) { return little_ ? bytes_.le32(at) : bytes_.be32(at); }

  struct Values {
    uint64_t at = 0;
    uint32_t count = 0;
    uint16_t kind = 0;
  };

  uint64_t value(const Values& values, uint32_t index) {
    return values.kind == 3 ? u16(values.at + uint64_t{index} * 2)
                            : u32(values.at + uint64_t{index} * 4);
  }

  void use(uint64_t at, uint64_t length) {
    if (at + length > bytes_.size() && fault_.empty()) {
      fault_ = "It ends before its picture does.";
      fault_at_ = bytes_.size();
    }
    end_ = std::max(end_, at + length);
  }

  // Parts of the picture: where they are, and how long.
  void parts(const Values& places, const Values& lengths) {
    if (places.count != lengths.count || places.count > kMostParts) return;
    for (uint32_t i = 0; i < places.count && fault_.empty(); ++i) {
      use(value(places, i), value(lengths, i));
    }
  }

  void directory(uint64_t at) {
    const uint16_t count = u16(at);
    const uint64_t length = 2 + uint64_t{count} * 12 + 4;
    if (count == 0 || at + length > bytes_.size()) {
      fault_ = "A directory is none, or not all there.";
      fault_at_ = at;
      return;
    }
    use(at, length);
    Values strips, strip_bytes, tiles, tile_bytes, jpeg, jpeg_bytes;
    for (uint16_t i = 0; i < count; ++i) {
      const uint64_t field = at + 2 + uint64_t{i} * 12;
      const uint16_t tag = u16(field);
      Values values{field + 8, u32(field + 4), u16(field + 2)};
      const uint64_t bytes =
          values.kind < kValueBytes.size() ? uint64_t{kValueBytes[values.kind]} * values.count : 0;
      if (bytes > 4) {
        values.at = u32(field + 8);
        use(values.at, bytes);
        if (!fault_.empty()) return;
      }
      switch (tag) {
        case kStrips:
          strips = values;
          break;
        case kStripBytes:
          strip_bytes = values;
          break;
        case kTiles:
          tiles = values;
          break;
        case kTileBytes:
          tile_bytes = values;
          break;
        case kJpegAt:
          jpeg = values;
          break;
        case kJpegBytes:
          jpeg_bytes = values;
          break;
        case kSubDirectories:
        case kExif:
        case kGps:
          for (uint32_t n = 0; n < std::min(values.count, 16U); ++n) {
            todo_.push_back(value(values, n));
          }
          break;
        default:
          break;
      }
    }
    parts(strips, strip_bytes);
    parts(tiles, tile_bytes);
    parts(jpeg, jpeg_bytes);
    todo_.push_back(u32(at + length - 4));
  }

  Bytes& bytes_;
  const bool little_;
  std::vector<uint64_t> todo_, done_;
  uint64_t end_ = 8;
  std::string_view fault_;
  uint64_t fault_at_ = 0;
};

Walk walk(Bytes& bytes, std::string_view) { return Directories(bytes).run(); }

void describe(Bytes& bytes, std::string_view, Description& found) {
  describe_exif(bytes, 0, found);
}

}  // namespace

const Family kTiff{.recognise = recognise, .walk = walk, .describe = describe};

}  // namespace undershelf::content
