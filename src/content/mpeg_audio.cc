// MP3 (ISO/IEC 11172-3, 2.4.1) and AAC in ADTS (14496-3, 1.A.2): frames whose heads tell their
// lengths, with ID3 tags before and behind.
#include <array>

#include "content/families.h"

namespace undershelf::content {
namespace {

// Behind an ID3v2 tag (or an APE tag's head) at `at`, or `at` itself.
uint64_t behind_tag(Bytes& bytes, uint64_t at) {
  while (bytes.has(at, "ID3")) {
    uint64_t length = 0;
    for (int i = 0; i < 4; ++i) length = length << 7 | (bytes.u8(at + 6 + i) & 0x7F);
    at += 10 + length;
  }
  return at;
}

// kilobits a second, by version (1; 2 and 2.5) and layer (1 to 3), then by index.
constexpr std::array<std::array<std::array<uint16_t, 15>, 3>, 2> kRates = {{
    {{{0, 32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448},
      {0, 32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384},
      {0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320}}},
    {{{0, 32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256},
      {0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160},
      {0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160}}},
}};
constexpr std::array<uint32_t, 3> kSamples = {44100, 48000, 32000};  // a second

struct Frame {
  uint64_t length = 0;  // bytes; 0: none
  uint32_t kind = 0;    // what stays the same in all frames of a file
};

Frame mp3_frame(uint32_t head) {
  if (head >> 21 != 0x7FF) return {};
  const uint32_t version = head >> 19 & 3;  // 0: 2.5, 2: 2, 3: 1
  const uint32_t layer = 4 - (head >> 17 & 3);
  const uint32_t rate = head >> 12 & 0xF;
  const uint32_t samples = head >> 10 & 3;
  if (version == 1 || layer == 4 || rate == 0 || rate == 15 || samples == 3) return {};
  const uint64_t bits = 1000ULL * kRates[version == 3 ? 0 : 1][layer - 1][rate];
  const uint64_t hertz = kSamples[samples] >> (version == 3 ? 0 : version == 2 ? 1 : 2);
  const uint64_t padding = head >> 9 & 1;
  const uint64_t length = layer == 1   ? (12 * bits / hertz + padding) * 4
                          : layer == 3 ? (version == 3 ? 144 : 72) * bits / hertz + padding
                                       : 144 * bits / hertz + padding;
  return {length, head & 0xFFFE0C00};
}

Frame adts_frame(Bytes& bytes, uint64_t at) {
  const uint32_t head = bytes.be32(at);
  if (head >> 20 != 0xFFF || (head >> 17 & 3) != 0) return {};
  const uint64_t length = (head & 3) << 11 | bytes.be16(at + 4) >> 5;
  return {length < 7 ? 0 : length, head & 0xFFFEFC00};
}

Frame frame_at(Bytes& bytes, uint64_t at, bool adts) {
  return adts ? adts_frame(bytes, at) : mp3_frame(bytes.be32(at));
}

// Whether three frames of a kind follow each other.
bool begins(Bytes& bytes, uint64_t at, bool adts) {
  uint32_t kind = 0;
  for (int i = 0; i < 3; ++i) {
    const Frame frame = frame_at(bytes, at, adts);
    if (frame.length == 0 || (i > 0 && frame.kind != kind)) return false;
    kind = frame.kind;
    at += frame.length;
  }
  return true;
}

std::string_view recognise(Bytes& bytes) {
  const uint64_t at = behind_tag(bytes, 0);
  if (begins(bytes, at, true)) return "aac";
  if (begins(bytes, at, false) || (at > 0 && at >= bytes.size())) return "mp3";
  // Tags may be followed by padding.
  return at > 0 && bytes.u8(at) == 0 ? "mp3" : "";
}

Walk walk(Bytes& bytes, std::string_view format) {
  const bool adts = format == "aac";
  uint64_t at = behind_tag(bytes, 0);
  if (at > bytes.size()) return broken(bytes.size(), "It ends inside its tag.");
  while (at < bytes.size() && bytes.u8(at) == 0) ++at;
  uint32_t kind = frame_at(bytes, at, adts).kind;
  while (at < bytes.size()) {
    const Frame frame = frame_at(bytes, at, adts);
    if (frame.length == 0 || frame.kind != kind) {
      // Recordings that were joined have tags, and frames of another kind, in their middle.
      const uint64_t next = behind_tag(bytes, at);
      if (!begins(bytes, next, adts)) break;
      at = next;
      kind = frame_at(bytes, at, adts).kind;
      continue;
    }
    if (frame.length > bytes.size() - at) {
      // The last frame is often cut by the recorder itself.
      return {Level::consistent, at, bytes.size(), {}};
    }
    at += frame.length;
  }
  if (bytes.has(at, "TAG") && bytes.size() - at >= 128) return ended(Level::consistent, at + 128);
  if (at == bytes.size() || bytes.has(at, "APETAGEX") || bytes.has(at, "LYRICSBEGIN")) {
    return ended(Level::consistent, bytes.size());
  }
  return broken(at, "No frame begins where one must.");
}

}  // namespace

const Family kMpegAudio{recognise, walk};

}  // namespace undershelf::content
