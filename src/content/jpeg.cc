// JPEG: ITU-T T.81, annex B. Segments are followed by their lengths; a whole JPEG in one of them is
// a thumbnail. Pictures that follow at once belong to it (CIPA DC-007).
#include "content/families.h"

namespace undershelf::content {
namespace {

constexpr uint8_t kSoi = 0xD8, kEoi = 0xD9, kSos = 0xDA, kDri = 0xDD, kRst0 = 0xD0, kRst7 = 0xD7;

std::string_view recognise(Bytes& bytes) {
  const auto head = bytes.at(0, 4);
  if (head.size() < 4 || !bytes.has(0, "\xFF\xD8\xFF")) return {};
  const uint8_t marker = bytes.u8(3);
  return marker >= 0xC0 && marker != kSoi && marker != kEoi ? "jpeg" : "";
}

struct Scan {
  uint64_t end = 0;  // at the marker behind it, or at the fault
  std::string_view fault;
};

// Entropy-coded data from `at` on: ends at a marker that is no restart.
Scan scan_from(Bytes& bytes, uint64_t at, bool restarts) {
  uint8_t due = kRst0;
  GrowingLength length;
  for (;;) {
    const auto part = bytes.at(at, length.next());
    if (part.size() < 2) return {at, "It ends inside the picture."};
    size_t i = 0;
    while (i + 1 < part.size()) {
      const void* found = std::memchr(part.data() + i, 0xFF, part.size() - 1 - i);
      if (found == nullptr) {
        i = part.size() - 1;
        break;
      }
      i = static_cast<size_t>(static_cast<const std::byte*>(found) - part.data());
      const auto marker = std::to_integer<uint8_t>(part[i + 1]);
      if (marker == 0xFF) {
        ++i;  // fill byte
      } else if (marker == 0) {
        i += 2;
      } else if (marker >= kRst0 && marker <= kRst7) {
        if (!restarts || marker != due) return {at + i, "A restart marker is not the next one."};
        due = due == kRst7 ? kRst0 : static_cast<uint8_t>(due + 1);
        i += 2;
      } else {
        return {at + i, {}};
      }
    }
    at += std::max<size_t>(i, 1);
  }
}

bool is_known(uint8_t marker) { return marker >= 0xC0 && marker != 0xFF; }

Walk one_picture(Bytes& bytes, uint64_t at) {
  at += 2;
  bool restarts = false;
  bool scanned = false;
  for (;;) {
    const auto head = bytes.at(at, 4);
    if (head.size() < 2) return broken(at, "It ends before its end mark.");
    if (bytes.u8(at) != 0xFF) return broken(at, "No segment begins where one must.");
    const uint8_t marker = bytes.u8(at + 1);
    if (marker == 0xFF) {
      ++at;
      continue;
    }
    if (marker == kEoi) {
      return scanned ? ended(Level::consistent, at + 2) : broken(at, "It ends without a picture.");
    }
    const uint64_t length = bytes.be16(at + 2);
    if (head.size() < 4 || !is_known(marker) || marker == kSoi || length < 2) {
      return broken(at, "A segment is none of the format.");
    }
    if (bytes.at(at + 2, length).size() < length) return broken(at, "It ends inside a segment.");
    if (marker == kDri) restarts = bytes.be16(at + 4) != 0;
    at += 2 + length;
    if (marker != kSos) continue;
    const Scan scan = scan_from(bytes, at, restarts);
    if (!scan.fault.empty()) return broken(scan.end, scan.fault);
    at = scan.end;
    scanned = true;
  }
}

Walk walk(Bytes& bytes, std::string_view) {
  Walk picture = one_picture(bytes, 0);
  while (picture.end && bytes.has(*picture.end, "\xFF\xD8\xFF")) {
    picture = one_picture(bytes, *picture.end);
  }
  if (!picture.end) picture.sound_to = before_zeros(bytes, picture.sound_to);
  return picture;
}

void describe(Bytes& bytes, std::string_view, Description& found) {
  uint64_t at = 2;
  for (int segment = 0; segment < 256 && bytes.u8(at) == 0xFF; ++segment) {
    const uint8_t marker = bytes.u8(at + 1);
    if (marker == kSos || marker == kEoi) break;
    constexpr uint8_t kApp1 = 0xE1, kDht = 0xC4, kJpg = 0xC8, kDac = 0xCC;
    if (marker == kApp1 && bytes.has(at + 4, "Exif")) describe_exif(bytes, at + 10, found);
    const bool frame =
        marker >= 0xC0 && marker <= 0xCF && marker != kDht && marker != kJpg && marker != kDac;
    if (frame) {
      // What the picture is counts, not what it was when it was taken.
      found.width = found.height = 0;
      found.put_size(bytes.be16(at + 7), bytes.be16(at + 5));
    }
    at += 2 + uint64_t{bytes.be16(at + 2)};
  }
}

}  // namespace

const Family kJpeg{.recognise = recognise, .walk = walk, .describe = describe};

}  // namespace undershelf::content
