// MP3 (ISO/IEC 11172-3, 2.4.1) and AAC in ADTS (14496-3, 1.A.2): frames whose heads tell their
// lengths, with ID3 tags before and behind.
#include <algorithm>
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
  uint64_t hertz = 0;   // MP3: samples a second
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
  return {length, head & 0xFFFE0C00, hertz};
}

Frame adts_frame(Bytes& bytes, uint64_t at) {
  const uint32_t head = bytes.be32(at);
  if (head >> 20 != 0xFFF || (head >> 17 & 3) != 0) return {};
  const uint64_t length = (head & 3) << 11 | bytes.be16(at + 4) >> 5;
  return {length < 7 ? 0 : length, head & 0xFFFEFC00, 0};
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

constexpr std::string_view kNoFrame = "No frame begins where one must.";

// `open`: the file may be followed by what is not its own.
Walk frames(Bytes& bytes, std::string_view format, bool open) {
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
      if (open) break;
      // The last frame is often cut by the recorder itself.
      return {Level::consistent, at, bytes.size(), {}};
    }
    at += frame.length;
  }
  if (bytes.has(at, "TAG") && bytes.size() - at >= 128) return ended(Level::consistent, at + 128);
  if (bytes.has(at, "APETAGEX") && open) {
    // An APEv2 tag: a head of 32 bytes, which tells the length of what is behind it.
    const uint64_t end = at + 32 + bytes.le32(at + 12);
    return end > bytes.size() ? broken(at, kNoFrame) : ended(Level::consistent, end);
  }
  if (at == bytes.size() || bytes.has(at, "APETAGEX") || bytes.has(at, "LYRICSBEGIN")) {
    return ended(Level::consistent, bytes.size());
  }
  return broken(at, kNoFrame);
}

Walk walk(Bytes& bytes, std::string_view format) { return frames(bytes, format, false); }

// Where a frame follows another of its kind, no file begins; behind a tag one does.
bool goes_on(Bytes& before, Bytes& bytes, std::string_view format) {
  const bool adts = format == "aac";
  const Frame first = frame_at(bytes, 0, adts);
  if (first.length == 0) return false;
  for (uint64_t at = 0; at < before.size(); ++at) {
    if (before.u8(at) != 0xFF) continue;
    const Frame frame = frame_at(before, at, adts);
    if (frame.kind == first.kind && at + frame.length == before.size()) return true;
  }
  return false;
}

Walk walk_open(Bytes& bytes, std::string_view format) {
  constexpr uint64_t kLeast = 8 << 10;  // bytes of frames: fewer may follow each other by chance
  const Walk walk = frames(bytes, format, true);
  const bool ends = walk.level == Level::broken && walk.why == kNoFrame &&
                    walk.sound_to >= behind_tag(bytes, 0) + kLeast;
  return ends ? ended(Level::consistent, walk.sound_to) : walk;
}

// The text of an ID3v2 frame: a byte for its encoding before it (ID3v2.4.0 structure, 4).
std::string id3_text(Bytes& bytes, uint64_t at, uint64_t length) {
  constexpr uint64_t kMost = 512;
  std::string text = text_at(bytes, at + 1, std::min(length - 1, kMost));
  switch (bytes.u8(at)) {
    case 0:
      return from_latin1(text);
    case 1:
      return from_any(text);
    case 2:
      return from_utf16(text, true);
    default:
      return text;
  }
}

void describe_id3(Bytes& bytes, Description& found) {
  const uint8_t version = bytes.u8(3);
  const uint64_t name = version == 2 ? 3 : 4;
  const uint64_t head = version == 2 ? 6 : 10;
  uint64_t at = 10;
  const uint64_t end = std::min(behind_tag(bytes, 0), bytes.size());
  for (int frame = 0; frame < 256 && at + head < end && bytes.u8(at) != 0; ++frame) {
    uint64_t length = version == 2 ? bytes.be32(at + 3) >> 8 : bytes.be32(at + 4);
    if (version == 4) {
      length = (length >> 3 & 0xFE00000) | (length >> 2 & 0x1FC000) | (length >> 1 & 0x3F80) |
               (length & 0x7F);
    }
    if (length == 0) break;
    const std::string id = text_at(bytes, at, name);
    const auto text = [&] { return id3_text(bytes, at + head, length); };
    if (id == "TIT2" || id == "TT2") found.title.put(text());
    if (id == "TPE1" || id == "TP1") found.author.put(text());
    if (id == "TDRC") found.made.put(date_in(text()));
    at += head + length;
  }
}

// How long it plays, where the first frame tells how many there are, as encoders write it.
void describe_length(Bytes& bytes, Description& found) {
  const uint64_t at = behind_tag(bytes, 0);
  const uint32_t head = bytes.be32(at);
  const Frame frame = mp3_frame(head);
  const bool layer3 = (head >> 17 & 3) == 1, mono = (head >> 6 & 3) == 3;
  if (frame.length == 0 || !layer3) return;
  const bool first_version = (head >> 19 & 3) == 3;
  const uint64_t side = first_version ? (mono ? 17 : 32) : (mono ? 9 : 17);  // bytes, 2.4.1.7
  const uint64_t mark = at + 4 + side;
  const bool counts =
      (bytes.has(mark, "Xing") || bytes.has(mark, "Info")) && (bytes.be32(mark + 4) & 1) != 0;
  if (counts) {
    const uint64_t samples = uint64_t{bytes.be32(mark + 8)} * (first_version ? 1152 : 576);
    found.milliseconds = samples * 1000 / frame.hertz;
  }
}

void describe(Bytes& bytes, std::string_view, Description& found) {
  describe_length(bytes, found);
  if (bytes.has(0, "ID3")) describe_id3(bytes, found);
  constexpr uint64_t kTag = 128, kField = 30;
  if (bytes.size() < kTag || !bytes.has(bytes.size() - kTag, "TAG")) return;
  found.title.put(from_any(text_at(bytes, bytes.size() - kTag + 3, kField)));
  found.author.put(from_any(text_at(bytes, bytes.size() - kTag + 3 + kField, kField)));
}

}  // namespace

const Family kMpegAudio{.recognise = recognise,
                        .walk = walk,
                        .walk_open = walk_open,
                        .goes_on = goes_on,
                        .describe = describe};

}  // namespace undershelf::content
