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

// How many of the lines that a table declares lie in it. `head`: bytes before them.
uint32_t lines_of(Bytes& bytes, const Box& table, uint64_t head, uint64_t width) {
  const uint64_t length = table.end - table.body;
  const uint64_t declared = bytes.be32(table.body + head - 4);
  return static_cast<uint32_t>(std::min(declared, length < head ? 0 : (length - head) / width));
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

  // Where the first sample that does not add up lies; nothing if all do. `checked`: bytes of
  // samples that were looked into, of all tracks; many that share their bytes are not looked into
  // for ever.
  std::optional<Walk> fault(uint64_t& end, uint64_t& checked) {
    if (!stbl_) return std::nullopt;
    const auto sizes = find(bytes_, *stbl_, "stsz");
    const auto chunks = find(bytes_, *stbl_, "stsc");
    const auto wide = find(bytes_, *stbl_, "co64");
    const auto places = wide ? wide : find(bytes_, *stbl_, "stco");
    if (!sizes || !chunks || !places) return std::nullopt;
    const uint32_t same = bytes_.be32(sizes->body + 4);
    const uint32_t count = std::min(
        same != 0 ? bytes_.be32(sizes->body + 8) : lines_of(bytes_, *sizes, 12, 4), kMostSamples);
    const uint32_t chunk_count = lines_of(bytes_, *places, 8, wide ? 8 : 4);
    const uint32_t runs = lines_of(bytes_, *chunks, 8, 12);
    uint32_t sample = 0;
    uint32_t run = 0;
    for (uint32_t chunk = 0; chunk < chunk_count && sample < count; ++chunk) {
      while (run + 1 < runs &&
             bytes_.be32(chunks->body + 8 + uint64_t{run + 1} * 12) <= chunk + 1) {
        ++run;
      }
      const uint32_t in_chunk =
          std::min(bytes_.be32(chunks->body + 12 + uint64_t{run} * 12), count - sample);
      uint64_t at = wide ? bytes_.be64(places->body + 8 + uint64_t{chunk} * 8)
                         : bytes_.be32(places->body + 8 + uint64_t{chunk} * 4);
      // Those of one size are taken as one, unless each is to be looked into.
      const bool each = same == 0 || (prefix_ != 0 && checked < 2 * bytes_.size());
      for (uint32_t i = 0; i < in_chunk; i += each ? 1 : in_chunk) {
        uint64_t size = each ? same : uint64_t{same} * in_chunk;
        if (same == 0) size = bytes_.be32(sizes->body + 12 + uint64_t{sample + i} * 4);
        if (size > bytes_.size() || at > bytes_.size() - size) {
          return broken(bytes_.size(), "It ends before its last frame.");
        }
        if (prefix_ != 0 && checked < 2 * bytes_.size()) {
          if (!adds_up(at, size)) return broken(at, "The parts of a frame do not add up.");
          checked += std::max<uint64_t>(size, 1);
        }
        at += size;
        end = std::max(end, at);
      }
      sample += in_chunk;
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

// Where boxes do not fill one that holds nothing else; nothing if they do. A word of zeros may
// stand behind them.
std::optional<uint64_t> odd_box(Bytes& bytes, const Box& in, int depth) {
  static constexpr std::array<std::string_view, 10> kHolders = {
      "moov", "trak", "mdia", "minf", "stbl", "edts", "dinf", "udta", "meta", "ilst"};
  constexpr int kDeepest = 8;
  const bool is_item = bytes.has(in.at + 4, "\xA9");  // of a list of values, as of udta
  const bool holds = std::ranges::any_of(kHolders, [&](auto n) { return bytes.has(in.at + 4, n); });
  if (!holds || is_item || depth > kDeepest) return std::nullopt;
  uint64_t at = in.body;
  // A box with version and flags, but in QuickTime's files.
  if (bytes.has(in.at + 4, "meta") && !bytes.has(at + 4, "hdlr")) at += 4;
  while (const auto box = box_at(bytes, at, in.end)) {
    if (const auto odd = odd_box(bytes, *box, depth + 1)) return odd;
    at = box->end;
  }
  return in.end - at > 8 || (in.end - at >= 4 && bytes.be32(at) != 0) ? std::optional(at)
                                                                      : std::nullopt;
}

// `open`: the file may be followed by what is not its own.
Walk boxes(Bytes& bytes, bool open) {
  std::optional<Box> movie;
  bool content = false, pictures = false;
  bool fragments = false;
  uint64_t at = 0, before = 0;
  while (at < bytes.size()) {
    if (!is_top(bytes, at)) break;
    const auto box = box_at(bytes, at, bytes.size());
    if (!box) return broken(open ? at : bytes.size(), "A box reaches behind the end.");
    if (bytes.has(at + 4, "moov")) movie = box;
    pictures = pictures || bytes.has(at + 4, "meta");
    content = content || bytes.has(at + 4, "mdat") || pictures;
    fragments = fragments || bytes.has(at + 4, "moof");
    before = at;
    at = box->end;
  }
  if (!movie && !fragments) {
    // Pictures have `meta`; a recording that was interrupted has no index.
    if (!content) return broken(at, "No box begins where one must.");
    if (open && pictures) return ended(Level::consistent, at);
    if (open || (!pictures && at < bytes.size())) {
      return broken(before, "No index of its frames follows them.");
    }
    return bytes.has(4, "ftyp") && at == bytes.size() ? ended(Level::consistent, at) : endless(at);
  }
  uint64_t last_sample = 0, checked = 0;
  if (movie) {
    uint64_t next = movie->body;
    while (const auto box = box_at(bytes, next, movie->end)) {
      next = box->end;
      if (!bytes.has(box->at + 4, "trak")) continue;
      if (const auto fault = Track(bytes, *box).fault(last_sample, checked)) return *fault;
    }
    if (const auto odd = odd_box(bytes, *movie, 0)) {
      return broken(*odd, "The index of its frames does not add up.");
    }
  }
  if (last_sample > at) return broken(at, "No box begins where one must.");
  return ended(Level::consistent, at);
}

Walk walk(Bytes& bytes, std::string_view) { return boxes(bytes, false); }
Walk walk_open(Bytes& bytes, std::string_view) { return boxes(bytes, true); }

constexpr std::string_view kMeta = "meta";

// iTunes' and QuickTime's lists of values.
void describe_list(Bytes& bytes, const Box& list, Description& found) {
  auto item = box_at(bytes, list.body, list.end);
  for (int i = 0; item && i < 256; ++i, item = box_at(bytes, item->end, list.end)) {
    const auto data = find(bytes, *item, "data");
    if (!data) continue;
    const std::string text =
        text_at(bytes, data->body + 8, std::min<uint64_t>(512, data->end - data->body - 8));
    if (bytes.has(item->at + 4, "\xA9nam")) found.title.put(text);
    if (bytes.has(item->at + 4,
                  "\xA9"
                  "ART"))
      found.author.put(text);
  }
}

void describe_movie(Bytes& bytes, const Box& movie, Description& found) {
  constexpr int64_t kEpoch = -2'082'844'800;  // 1904
  if (const auto head = find(bytes, movie, "mvhd")) {
    const bool wide = bytes.u8(head->body) == 1;
    const uint64_t made = wide ? bytes.be64(head->body + 4) : bytes.be32(head->body + 4);
    const uint64_t at = head->body + (wide ? 20 : 12);
    const uint64_t scale = bytes.be32(at);
    const uint64_t length = wide ? bytes.be64(at + 4) : bytes.be32(at + 4);
    if (made < uint64_t{1} << 40) found.made.put(date_of(kEpoch + static_cast<int64_t>(made)));
    if (scale > 0 && length < UINT32_MAX) found.milliseconds = length * 1000 / scale;
  }
  auto track = box_at(bytes, movie.body, movie.end);
  for (int i = 0; track && i < 256; ++i, track = box_at(bytes, track->end, movie.end)) {
    const auto head = bytes.has(track->at + 4, "trak") ? find(bytes, *track, "tkhd") : std::nullopt;
    if (head) found.put_size(bytes.be32(head->end - 8) >> 16, bytes.be32(head->end - 4) >> 16);
  }
  if (const auto data = find(bytes, movie, "udta")) {
    if (const auto meta = find(bytes, *data, kMeta)) {
      const Box inside{meta->at, meta->body + 4, meta->end};  // a box with version and flags
      if (const auto list = find(bytes, inside, "ilst")) describe_list(bytes, *list, found);
    }
  }
}

// A number of so many bytes, of the sizes that may stand in an item's place.
uint64_t number(Bytes& bytes, uint64_t at, unsigned size) {
  return size == 4 ? bytes.be32(at) : size == 8 ? bytes.be64(at) : 0;
}

constexpr int kMostItems = 4096;  // looked at

// The item of `meta` that holds EXIF data (ISO/IEC 23008-12, annex A; 14496-12, 8.11.6).
std::optional<uint32_t> exif_item(Bytes& bytes, const Box& meta) {
  const auto info = find(bytes, meta, "iinf");
  if (!info) return std::nullopt;
  const uint64_t first = info->body + (bytes.u8(info->body) == 0 ? 6 : 8);
  auto entry = box_at(bytes, first, info->end);
  for (int i = 0; entry && i < kMostItems; ++i, entry = box_at(bytes, entry->end, info->end)) {
    const uint8_t version = bytes.u8(entry->body);
    const bool wide = version == 3;
    if (version < 2 || !bytes.has(entry->body + (wide ? 10 : 8), "Exif")) continue;
    return wide ? bytes.be32(entry->body + 4) : bytes.be16(entry->body + 4);
  }
  return std::nullopt;
}

// Where an item begins (14496-12, 8.11.3), if that is in this file.
std::optional<uint64_t> place_of_item(Bytes& bytes, const Box& meta, uint32_t wanted) {
  const auto places = find(bytes, meta, "iloc");
  if (!places) return std::nullopt;
  const uint8_t version = bytes.u8(places->body);
  const uint16_t sizes = bytes.be16(places->body + 4);
  const unsigned of_offset = sizes >> 12, of_length = sizes >> 8 & 0xF, of_base = sizes >> 4 & 0xF;
  const unsigned of_index = version == 0 ? 0 : sizes & 0xF;
  uint64_t at = places->body + (version < 2 ? 8 : 10);
  for (int i = 0; i < kMostItems && at < places->end; ++i) {
    const uint32_t item = version < 2 ? bytes.be16(at) : bytes.be32(at);
    at += version < 2 ? 2 : 4;
    unsigned method = 0;  // 0: in the file; 1: in the box `idat`
    if (version > 0) {
      method = bytes.be16(at) & 0xF;
      at += 2;
    }
    const uint64_t base = number(bytes, at + 2, of_base);
    const uint16_t extents = bytes.be16(at + 2 + of_base);
    at += 4 + of_base;
    if (item == wanted && extents > 0) {
      const uint64_t offset = base + number(bytes, at + of_index, of_offset);
      if (method == 0) return offset;
      const auto data = method == 1 ? find(bytes, meta, "idat") : std::nullopt;
      return data ? std::optional(data->body + offset) : std::nullopt;
    }
    at += uint64_t{extents} * (of_index + of_offset + of_length);
  }
  return std::nullopt;
}

// The largest picture of a HEIC or AVIF file (ISO/IEC 23008-12, 6.5.3).
void describe_pictures(Bytes& bytes, const Box& meta, Description& found) {
  const Box inside{meta.at, meta.body + 4, meta.end};
  const auto properties = find(bytes, inside, {"iprp", "ipco"});
  if (!properties) return;
  uint64_t width = 0, height = 0;
  auto box = box_at(bytes, properties->body, properties->end);
  for (int i = 0; box && i < 1024; ++i, box = box_at(bytes, box->end, properties->end)) {
    if (!bytes.has(box->at + 4, "ispe")) continue;
    const uint64_t wide = bytes.be32(box->body + 4), high = bytes.be32(box->body + 8);
    if (wide * high > width * height) {
      width = wide;
      height = high;
    }
  }
  found.put_size(width, height);
}

void describe_camera(Bytes& bytes, const Box& meta, Description& found) {
  const Box inside{meta.at, meta.body + 4, meta.end};
  const auto item = exif_item(bytes, inside);
  const auto at = item ? place_of_item(bytes, inside, *item) : std::nullopt;
  // In front of the data stands how many bytes it is away.
  if (at && *at < bytes.size()) describe_exif(bytes, *at + 4 + bytes.be32(*at), found);
}

void describe(Bytes& bytes, std::string_view, Description& found) {
  auto box = box_at(bytes, 0, bytes.size());
  for (int i = 0; box && i < 64; ++i, box = box_at(bytes, box->end, bytes.size())) {
    if (bytes.has(box->at + 4, "moov")) describe_movie(bytes, *box, found);
    if (!bytes.has(box->at + 4, kMeta)) continue;
    describe_pictures(bytes, *box, found);
    describe_camera(bytes, *box, found);
  }
}

std::optional<uint64_t> part_end(Bytes& bytes, uint64_t at) {
  const auto box = is_top(bytes, at) ? box_at(bytes, at, bytes.size()) : std::nullopt;
  return box ? std::optional(box->end) : std::nullopt;
}

std::optional<uint64_t> stated_end(Bytes& bytes, uint64_t at) {
  if (!is_top(bytes, at)) return std::nullopt;
  const bool wide = bytes.be32(at) == 1;
  const uint64_t length = wide ? bytes.be64(at + 8) : bytes.be32(at);
  // Recorders write the length of what they recorded once they are done with it.
  if (length < (wide ? 16 : 8) && bytes.has(at + 4, "mdat")) return kNeverWritten;
  return length > kNeverWritten - at ? kNeverWritten : at + length;
}

bool begins_part(Bytes& bytes, uint64_t at, uint64_t) {
  return is_top(bytes, at) && box_at(bytes, at, bytes.size()).has_value();
}

}  // namespace

const Family kIsobmff{.recognise = recognise,
                      .walk = walk,
                      .walk_open = walk_open,
                      .part_end = part_end,
                      .begins_part = begins_part,
                      .stated_end = stated_end,
                      .describe = describe};

}  // namespace undershelf::content
