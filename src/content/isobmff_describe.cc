// What the boxes of ISO/IEC 14496-12 say of themselves.
#include <algorithm>

#include "content/families.h"
#include "content/isobmff.h"

namespace undershelf::content::isobmff {
namespace {

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

}  // namespace

void describe(Bytes& bytes, std::string_view, Description& found) {
  auto box = box_at(bytes, 0, bytes.size());
  for (int i = 0; box && i < 64; ++i, box = box_at(bytes, box->end, bytes.size())) {
    if (bytes.has(box->at + 4, "moov")) describe_movie(bytes, *box, found);
    if (!bytes.has(box->at + 4, kMeta)) continue;
    describe_pictures(bytes, *box, found);
    describe_camera(bytes, *box, found);
  }
}

}  // namespace undershelf::content::isobmff
