// RIFF (AVI, WAV, WebP) and EA IFF 85 (AIFF, AIFC, MIDI's kin): chunks of stated length, the outer
// one telling the whole.
#include "content/families.h"

namespace undershelf::content {
namespace {

bool is_big(Bytes& bytes) { return bytes.has(0, "FORM"); }

std::string_view recognise(Bytes& bytes) {
  if (bytes.has(0, "RIFF") || bytes.has(0, "RF64")) {
    if (bytes.has(8, "AVI ")) return "avi";
    if (bytes.has(8, "WAVE")) return "wav";
    if (bytes.has(8, "WEBP")) return "webp";
    return {};
  }
  if (is_big(bytes) && (bytes.has(8, "AIFF") || bytes.has(8, "AIFC"))) return "aiff";
  return bytes.has(0, "MThd") && bytes.be32(4) == 6 ? "midi" : "";
}

bool is_name(Bytes& bytes, uint64_t at) {
  for (int i = 0; i < 4; ++i) {
    const uint8_t c = bytes.u8(at + i);
    if (c < 0x20 || c > 0x7E) return false;
  }
  return true;
}

Walk midi(Bytes& bytes) {
  uint64_t at = 14;
  for (uint16_t track = 0; track < bytes.be16(10); ++track) {
    if (!bytes.has(at, "MTrk")) return broken(at, "No track begins where one must.");
    at += 8 + uint64_t{bytes.be32(at + 4)};
    if (at > bytes.size()) return broken(bytes.size(), "It ends inside a track.");
  }
  return ended(Level::consistent, at);
}

// The chunks from `at` to `end`; nothing if all is well.
std::optional<Walk> chunks(Bytes& bytes, uint64_t at, uint64_t end, int depth) {
  const bool big = is_big(bytes);
  while (at + 8 <= end) {
    const uint64_t length = big ? bytes.be32(at + 4) : bytes.le32(at + 4);
    if (bytes.at(at, 8).size() < 8 || !is_name(bytes, at)) {
      return broken(at, "No chunk begins where one must.");
    }
    const bool list = bytes.has(at, "LIST");
    if (at + 8 + length > end) {
      // A recording that was cut off leaves the length of its last chunk open.
      return broken(std::min(end, bytes.size()), "A chunk reaches behind the end.");
    }
    if (list && depth < 4) {
      if (auto fault = chunks(bytes, at + 12, at + 8 + length, depth + 1)) return fault;
    }
    at += 8 + length + (length & 1);
  }
  return std::nullopt;
}

Walk walk(Bytes& bytes, std::string_view format) {
  if (format == "midi") return midi(bytes);
  const uint64_t stated = is_big(bytes) ? bytes.be32(4) : bytes.le32(4);
  uint64_t end = 8 + stated;
  if (bytes.has(0, "RF64")) end = 8 + bytes.le64(20);
  // Large AVI files go on in further RIFF chunks.
  uint64_t begin = 0;
  for (;;) {
    if (end > bytes.size() && end - bytes.size() > 1) {
      if (auto fault = chunks(bytes, begin + 12, bytes.size(), 0)) return *fault;
      return broken(bytes.size(), "It is shorter than its header says.");
    }
    end = std::min(end, bytes.size());
    if (auto fault = chunks(bytes, begin + 12, end, 0)) return *fault;
    if (!bytes.has(end, "RIFF") || !bytes.has(end + 8, "AVIX")) break;
    begin = end;
    end = begin + 8 + bytes.le32(begin + 4);
  }
  return ended(Level::consistent, end);
}

// The chunks from `at` to `end` that say something of the whole.
void describe_chunks(Bytes& bytes, uint64_t at, uint64_t end, Description& found, uint64_t& rate) {
  for (int chunk = 0; chunk < 64 && at + 8 <= std::min(end, bytes.size()); ++chunk) {
    const uint64_t length = bytes.le32(at + 4);
    const uint64_t body = at + 8;
    constexpr uint64_t kMost = 256;
    const auto text = [&] { return from_any(text_at(bytes, body, std::min(length, kMost))); };
    if (bytes.has(at, "LIST") && (bytes.has(body, "INFO") || bytes.has(body, "hdrl"))) {
      describe_chunks(bytes, body + 4, body + length, found, rate);
    }
    if (bytes.has(at, "INAM")) found.title.put(text());
    if (bytes.has(at, "IART")) found.author.put(text());
    if (bytes.has(at, "ICRD")) found.made.put(date_in(text()));
    if (bytes.has(at, "avih")) {
      found.put_size(bytes.le32(body + 32), bytes.le32(body + 36));
      found.milliseconds = uint64_t{bytes.le32(body)} * bytes.le32(body + 16) / 1000;
    }
    if (bytes.has(at, "fmt ")) rate = bytes.le32(body + 8);
    if (bytes.has(at, "data") && rate > 0) found.milliseconds = length * 1000 / rate;
    if (bytes.has(at, "VP8X")) {
      found.put_size((bytes.le32(body + 4) & 0xFFFFFF) + 1, (bytes.le32(body + 7) & 0xFFFFFF) + 1);
    }
    if (bytes.has(at, "VP8 ")) {
      found.put_size(bytes.le16(body + 6) & 0x3FFF, bytes.le16(body + 8) & 0x3FFF);
    }
    if (bytes.has(at, "VP8L")) {
      const uint32_t size = bytes.le32(body + 1);
      found.put_size((size & 0x3FFF) + 1, (size >> 14 & 0x3FFF) + 1);
    }
    if (bytes.has(at, "EXIF")) {
      describe_exif(bytes, body + (bytes.has(body, "Exif") ? 6 : 0), found);
    }
    at = body + length + (length & 1);
  }
}

void describe(Bytes& bytes, std::string_view format, Description& found) {
  uint64_t rate = 0;
  if (format != "midi" && !is_big(bytes)) {
    describe_chunks(bytes, 12, bytes.size(), found, rate);
  }
}

}  // namespace

const Family kRiff{.recognise = recognise, .walk = walk, .describe = describe};

}  // namespace undershelf::content
