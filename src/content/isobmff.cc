// ISO/IEC 14496-12: MP4, MOV, 3GP, M4A, HEIC and camera raw formats in boxes. `mdat` may stand
// before `moov`; the sample tables in `moov` must lead into the file, and in tracks of H.264 and
// H.265 the length-prefixed units of each sample must add up (14496-15, 4.3.2).
#include <algorithm>
#include <array>
#include <vector>

#include "content/families.h"

namespace undershelf::content {
namespace {

constexpr std::array<std::string_view, 18> kTopBoxes = {
    "ftyp", "moov", "mdat", "free", "skip", "wide", "meta", "moof", "mfra",
    "sidx", "uuid", "pnot", "styp", "ssix", "prft", "emsg", "udta", "PICT"};
constexpr uint32_t kMostSamples = 4'000'000;

bool is_top(Bytes& bytes, uint64_t at) {
  return std::ranges::any_of(kTopBoxes, [&](auto name) { return bytes.has(at + 4, name); });
}

std::string_view recognise(Bytes& bytes) {
  if (!bytes.has(4, "ftyp")) {
    const bool old = bytes.has(4, "moov") || bytes.has(4, "mdat") || bytes.has(4, "wide") ||
                     bytes.has(4, "pnot");
    return old && (bytes.be32(0) >= 8 || bytes.be32(0) == 1) ? "mov" : "";
  }
  for (const auto& [brand, format] :
       std::array<std::array<std::string_view, 2>, 14>{{{"qt  ", "mov"},
                                                        {"M4A ", "m4a"},
                                                        {"M4B ", "m4a"},
                                                        {"M4V ", "m4v"},
                                                        {"3gp", "3gp"},
                                                        {"3g2", "3gp"},
                                                        {"heic", "heic"},
                                                        {"heix", "heic"},
                                                        {"mif1", "heic"},
                                                        {"hevc", "heic"},
                                                        {"avif", "avif"},
                                                        {"crx ", "cr3"},
                                                        {"msf1", "heic"},
                                                        {"jp2 ", "jp2"}}}) {
    if (bytes.has(8, brand)) return format;
  }
  return "mp4";
}

struct Box {
  uint64_t at = 0, body = 0, end = 0;  // bytes
};

// The box at `at`; nothing if none that fits below `limit` begins there.
std::optional<Box> box_at(Bytes& bytes, uint64_t at, uint64_t limit) {
  if (at + 8 > limit || bytes.at(at, 8).size() < 8) return std::nullopt;
  uint64_t length = bytes.be32(at);
  uint64_t head = 8;
  if (length == 1) {
    length = bytes.be64(at + 8);
    head = 16;
  } else if (length == 0) {
    length = limit - at;
  }
  if (length < head || length > limit - at) return std::nullopt;
  return Box{at, at + head, at + length};
}

std::optional<Box> find(Bytes& bytes, const Box& in, std::string_view name) {
  auto box = box_at(bytes, in.body, in.end);
  while (box && !bytes.has(box->at + 4, name)) box = box_at(bytes, box->end, in.end);
  return box;
}

std::optional<Box> find(Bytes& bytes, Box in, std::initializer_list<std::string_view> path) {
  for (const std::string_view name : path) {
    const auto next = find(bytes, in, name);
    if (!next) return std::nullopt;
    in = *next;
  }
  return in;
}

// The samples of one track, in its own order.
class Track {
 public:
  Track(Bytes& bytes, const Box& trak) : bytes_(bytes) {
    stbl_ = find(bytes, trak, {"mdia", "minf", "stbl"});
    if (!stbl_) return;
    if (const auto stsd = find(bytes, *stbl_, "stsd")) {
      const uint64_t entry = stsd->body + 8;
      constexpr uint64_t kVisualEntry = 86;  // bytes, 14496-12, 12.1.3
      for (const std::string_view kind : {"avc1", "avc3", "hvc1", "hev1"}) {
        if (!bytes.has(entry + 4, kind)) continue;
        const Box visual{entry, entry + kVisualEntry,
                         std::min(entry + bytes.be32(entry), stsd->end)};
        const bool hevc = kind[0] == 'h';
        if (const auto config = find(bytes, visual, hevc ? "hvcC" : "avcC")) {
          prefix_ = 1 + (bytes.u8(config->body + (hevc ? 21 : 4)) & 3);
        }
      }
    }
  }

  // Where the first sample that does not add up lies; nothing if all do.
  std::optional<Walk> fault(uint64_t& end) {
    if (!stbl_) return std::nullopt;
    const auto sizes = find(bytes_, *stbl_, "stsz");
    const auto chunks = find(bytes_, *stbl_, "stsc");
    const auto wide = find(bytes_, *stbl_, "co64");
    const auto places = wide ? wide : find(bytes_, *stbl_, "stco");
    if (!sizes || !chunks || !places) return std::nullopt;
    const uint32_t same = bytes_.be32(sizes->body + 4);
    const uint32_t count = std::min(bytes_.be32(sizes->body + 8), kMostSamples);
    const uint32_t chunk_count = bytes_.be32(places->body + 4);
    const uint32_t runs = bytes_.be32(chunks->body + 4);
    uint32_t sample = 0;
    uint32_t run = 0;
    for (uint32_t chunk = 0; chunk < chunk_count && sample < count; ++chunk) {
      while (run + 1 < runs &&
             bytes_.be32(chunks->body + 8 + uint64_t{run + 1} * 12) <= chunk + 1) {
        ++run;
      }
      const uint32_t in_chunk = bytes_.be32(chunks->body + 12 + uint64_t{run} * 12);
      uint64_t at = wide ? bytes_.be64(places->body + 8 + uint64_t{chunk} * 8)
                         : bytes_.be32(places->body + 8 + uint64_t{chunk} * 4);
      for (uint32_t i = 0; i < in_chunk && sample < count; ++i, ++sample) {
        const uint64_t size =
            same != 0 ? same : bytes_.be32(sizes->body + 12 + uint64_t{sample} * 4);
        if (size > bytes_.size() || at > bytes_.size() - size) {
          return broken(bytes_.size(), "It ends before its last frame.");
        }
        if (prefix_ != 0 && !adds_up(at, size)) {
          return broken(at, "The parts of a frame do not add up.");
        }
        at += size;
        end = std::max(end, at);
      }
    }
    return std::nullopt;
  }

 private:
  bool adds_up(uint64_t at, uint64_t size) {
    const uint64_t stop = at + size;
    while (at + prefix_ <= stop) {
      uint64_t length = 0;
      for (unsigned i = 0; i < prefix_; ++i) length = length << 8 | bytes_.u8(at + i);
      const bool forbidden = (bytes_.u8(at + prefix_) & 0x80) != 0;
      if (length == 0 || length > stop - at - prefix_ || forbidden) return false;
      at += prefix_ + length;
    }
    return at == stop;
  }

  Bytes& bytes_;
  std::optional<Box> stbl_;
  unsigned prefix_ = 0;  // bytes of a unit's length; 0: not checked
};

Walk walk(Bytes& bytes, std::string_view) {
  std::optional<Box> movie;
  bool content = false;
  bool fragments = false;
  uint64_t at = 0;
  while (at < bytes.size()) {
    if (!is_top(bytes, at)) break;
    const auto box = box_at(bytes, at, bytes.size());
    if (!box) return broken(bytes.size(), "A box reaches behind the end.");
    if (bytes.has(at + 4, "moov")) movie = box;
    content = content || bytes.has(at + 4, "mdat") || bytes.has(at + 4, "meta");
    fragments = fragments || bytes.has(at + 4, "moof");
    at = box->end;
  }
  if (!movie && !fragments) {
    // Pictures have `meta`; a recording that was interrupted has no index.
    if (!content) return broken(at, "No box begins where one must.");
    return bytes.has(4, "ftyp") && at == bytes.size() ? ended(Level::consistent, at) : endless(at);
  }
  uint64_t last_sample = 0;
  if (movie) {
    uint64_t next = movie->body;
    while (const auto box = box_at(bytes, next, movie->end)) {
      next = box->end;
      if (!bytes.has(box->at + 4, "trak")) continue;
      if (const auto fault = Track(bytes, *box).fault(last_sample)) return *fault;
    }
    if (next != movie->end && movie->end - next > 8) {
      return broken(next, "The index of its frames does not add up.");
    }
  }
  if (last_sample > at) return broken(at, "No box begins where one must.");
  return ended(Level::consistent, at);
}

}  // namespace

const Family kIsobmff{recognise, walk};

}  // namespace undershelf::content
