// RIFF (AVI, WAV, WebP) and EA IFF 85 (AIFF, AIFC, MIDI's kin): chunks of stated length, the outer
// one telling the whole.
#include <algorithm>
#include <array>

#include "content/families.h"

namespace undershelf::content {
namespace {

using namespace std::string_view_literals;

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

// Recorders write it once they are done, if they were told to end.
bool is_never_written(uint32_t length) { return length == 0 || length >= 0xFFFFFF00; }

// Frames or samples, of which a recorder does not know how many there will be.
bool is_recorded(Bytes& bytes, uint64_t at) {
  return bytes.has(at, "data") || (bytes.has(at, "LIST") && bytes.has(at + 8, "movi"));
}

// A chunk of a stream (two digits and what it holds), or one of those around them.
bool is_chunk_of_avi(Bytes& bytes, uint64_t at) {
  const auto head = bytes.at(at, 8);
  if (head.size() < 8) return false;
  const std::string_view name(reinterpret_cast<const char*>(head.data()), 4);
  constexpr std::array kOfStreams = {"dc"sv, "db"sv, "wb"sv, "pc"sv, "tx"sv};
  constexpr std::array kOthers = {"idx1"sv, "LIST"sv, "JUNK"sv, "RIFF"sv};
  const auto is_digit = [](char c) { return c >= '0' && c <= '9'; };
  const bool of_stream = is_digit(name[0]) && is_digit(name[1]) &&
                         std::ranges::find(kOfStreams, name.substr(2)) != kOfStreams.end();
  const bool of_index = name.starts_with("ix") && is_digit(name[2]) && is_digit(name[3]);
  return of_stream || of_index || std::ranges::find(kOthers, name) != kOthers.end();
}

constexpr std::string_view kNoChunk = "No chunk begins where one must.";
constexpr std::string_view kNotFinished = "Its lengths are those of a recording that did not end.";

class Chunks {
 public:
  // `open`: the file may be followed by what is not its own.
  Chunks(Bytes& bytes, bool open) : bytes_(bytes), open_(open) {}

  Walk walk() {
    const uint32_t stated = is_big(bytes_) ? bytes_.be32(4) : bytes_.le32(4);
    if (is_never_written(stated) && !bytes_.has(0, "RF64")) return never_finished();
    uint64_t end = 8 + uint64_t{stated};
    if (bytes_.has(0, "RF64")) end = 8 + bytes_.le64(20);
    // Large AVI files go on in further RIFF chunks.
    uint64_t begin = 0;
    for (;;) {
      if (end > bytes_.size() && end - bytes_.size() > 1) {
        if (auto fault = look(begin + 12, bytes_.size(), 0)) return noticed_late(*fault);
        return broken(bytes_.size(), "It is shorter than its header says.");
      }
      end = std::min(end, bytes_.size());
      if (auto fault = look(begin + 12, end, 0)) return noticed_late(*fault);
      if (!bytes_.has(end, "RIFF") || !bytes_.has(end + 8, "AVIX")) break;
      begin = end;
      end = begin + 8 + bytes_.le32(begin + 4);
    }
    return ended(Level::consistent, end);
  }

 private:
  // Where frames lead to no chunk of an AVI file, the last of them is the one that does not hold.
  Walk noticed_late(const Walk& fault) const {
    const bool is_avi = bytes_.has(8, "AVI ");
    if (!is_avi || frame_ == 0 || is_chunk_of_avi(bytes_, fault.sound_to)) return fault;
    return broken(frame_, kNoChunk);
  }

  // Of the chunk at `at`. RF64 has that of samples, which may be too many for 32 bits, in its first
  // chunk (EBU Tech 3306, 3.5).
  uint64_t length_at(uint64_t at) const {
    const uint32_t length = is_big(bytes_) ? bytes_.be32(at + 4) : bytes_.le32(at + 4);
    const bool is_wide = length == UINT32_MAX && bytes_.has(0, "RF64") && bytes_.has(at, "data");
    return is_wide ? std::min(bytes_.le64(28), bytes_.size()) : length;
  }

  // The chunks from `at` to `end`; nothing if all is well.
  std::optional<Walk> look(uint64_t at, uint64_t end, int depth) {
    while (at + 8 <= end) {
      const uint64_t length = length_at(at);
      if (bytes_.at(at, 8).size() < 8 || !is_name(bytes_, at)) {
        return broken(at, kNoChunk);
      }
      if (at + 8 + length > end) {
        return broken(open_ ? at : std::min(end, bytes_.size()), "A chunk reaches behind the end.");
      }
      if (bytes_.has(at, "LIST") && depth < 4) {
        if (auto fault = look(at + 12, at + 8 + length, depth + 1)) return fault;
      } else {
        frame_ = at;
      }
      at += 8 + length + (length & 1);
    }
    return std::nullopt;
  }

  // All of a file by itself is what was recorded; on a medium the chunks go as far as they do.
  Walk never_finished() {
    uint64_t at = 12;
    while (is_name(bytes_, at) && !is_recorded(bytes_, at) && bytes_.size() - at > 8) {
      const uint64_t length = bytes_.le32(at + 4);
      if (length > bytes_.size() - at - 8) break;
      at += 8 + length + (length & 1);
    }
    if (!is_recorded(bytes_, at)) return broken(at, kNoChunk);
    if (!open_) return broken(bytes_.size(), kNotFinished);
    if (bytes_.has(at, "data")) return broken(at, kNotFinished);
    const auto fault = look(at + 12, bytes_.size(), 1);
    return broken(fault ? fault->sound_to : bytes_.size(), kNotFinished);
  }

  Bytes& bytes_;
  const bool open_;
  uint64_t frame_ = 0;  // begin of the last chunk that was met and is made of no others
};

Walk walk(Bytes& bytes, std::string_view format) {
  return format == "midi" ? midi(bytes) : Chunks(bytes, false).walk();
}
Walk walk_open(Bytes& bytes, std::string_view format) {
  return format == "midi" ? midi(bytes) : Chunks(bytes, true).walk();
}

std::optional<uint64_t> stated_end(Bytes& bytes, uint64_t at) {
  if (!is_name(bytes, at)) return std::nullopt;
  const uint32_t length = is_big(bytes) ? bytes.be32(at + 4) : bytes.le32(at + 4);
  if (is_never_written(length) && is_recorded(bytes, at)) return kNeverWritten;
  return at + 8 + length;
}

std::optional<uint64_t> part_end(Bytes& bytes, uint64_t at) {
  const uint64_t length = is_name(bytes, at) ? bytes.le32(at + 4) : 0;
  return at + 8 + length + (length & 1);
}

// Of AVI alone: of others one chunk is nearly all.
bool begins_part(Bytes& bytes, uint64_t at, uint64_t) {
  return bytes.has(8, "AVI ") && is_chunk_of_avi(bytes, at);
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
    if (bytes.has(at, "data") && rate > 0 && !is_never_written(bytes.le32(at + 4)))
      found.milliseconds = length * 1000 / rate;
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

const Family kRiff{.recognise = recognise,
                   .walk = walk,
                   .walk_open = walk_open,
                   .part_end = part_end,
                   .begins_part = begins_part,
                   .stated_end = stated_end,
                   .describe = describe};

}  // namespace undershelf::content
