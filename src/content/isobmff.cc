// ISO/IEC 14496-12: MP4, MOV, 3GP, M4A, HEIC and camera raw formats in boxes. `mdat` may stand
// before `moov`; samples, by the tables in `moov` or by fragments, must lie in the file and add up
// (isobmff.h).
#include "content/isobmff.h"

#include <algorithm>
#include <array>

#include "content/families.h"

namespace undershelf::content {
namespace {

using isobmff::Box;
using isobmff::box_at;
using isobmff::Samples;

constexpr std::array<std::string_view, 18> kTopBoxes = {
    "ftyp", "moov", "mdat", "free", "skip", "wide", "meta", "moof", "mfra",
    "sidx", "uuid", "pnot", "styp", "ssix", "prft", "emsg", "udta", "PICT"};

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
  uint64_t at = 0, before = 0, data = 0;
  while (at < bytes.size()) {
    if (!is_top(bytes, at)) break;
    const auto box = box_at(bytes, at, bytes.size());
    if (!box) return broken(open ? at : bytes.size(), "A box reaches behind the end.");
    if (bytes.has(at + 4, "moov")) movie = box;
    pictures = pictures || bytes.has(at + 4, "meta");
    const bool is_data = bytes.has(at + 4, "mdat");
    if (is_data) data += box->end - box->body;
    content = content || is_data || pictures;
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
  Samples samples(bytes);
  if (movie) {
    if (const auto fault = samples.fault_in_movie(*movie)) return *fault;
    if (const auto odd = odd_box(bytes, *movie, 0)) {
      return broken(*odd, "The index of its frames does not add up.");
    }
  }
  if (fragments) {
    for (auto box = box_at(bytes, 0, at); box; box = box_at(bytes, box->end, at)) {
      const auto fault =
          bytes.has(box->at + 4, "moof") ? samples.fault_in_fragment(*box) : std::nullopt;
      if (fault) return *fault;
    }
  }
  if (samples.end() > at) return broken(at, "No box begins where one must.");
  Walk whole = ended(Level::consistent, at);
  if (samples.looked_into() < data / 2) {
    whole.why = "Most of its frames are of kinds that are not looked into.";
  }
  return whole;
}

Walk walk(Bytes& bytes, std::string_view) { return boxes(bytes, false); }
Walk walk_open(Bytes& bytes, std::string_view) { return boxes(bytes, true); }

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
                      .describe = isobmff::describe};

}  // namespace undershelf::content
