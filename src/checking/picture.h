// A picture's pixels, as decoders in the box give them.
#pragma once

#include <cstddef>
#include <cstdint>
#include <utility>
#include <vector>

namespace undershelf::checking {

struct Picture {
  uint32_t width = 0, height = 0;            // pixels; 0: none
  uint32_t full_width = 0, full_height = 0;  // before the decoder made it smaller
  std::vector<uint8_t> pixels;               // red, green, blue; line by line, from the top

  // Room for a picture of that size, white; false if it is none, or of more than `most` pixels.
  bool make_room(uint64_t wide, uint64_t high, uint64_t most) {
    if (wide == 0 || high == 0 || wide > most || high > most / wide) return false;
    width = static_cast<uint32_t>(wide);
    height = static_cast<uint32_t>(high);
    if (full_width == 0) {
      full_width = width;
      full_height = height;
    }
    pixels.assign(wide * high * 3, 0xFF);
    return true;
  }
};

// Turned by so many quarters of a turn clockwise, 0 to 3, and then, if asked, left and right
// changed.
inline Picture turned(Picture picture, int quarters, bool mirrored) {
  if (picture.pixels.empty() || (quarters == 0 && !mirrored)) return picture;
  Picture made;
  made.full_width = quarters % 2 != 0 ? picture.full_height : picture.full_width;
  made.full_height = quarters % 2 != 0 ? picture.full_width : picture.full_height;
  made.width = quarters % 2 != 0 ? picture.height : picture.width;
  made.height = quarters % 2 != 0 ? picture.width : picture.height;
  made.pixels.resize(picture.pixels.size());
  const size_t wide = picture.width;
  const size_t high = picture.height;
  for (size_t y = 0; y < made.height; ++y) {
    for (size_t to = 0; to < made.width; ++to) {
      const size_t x = mirrored ? made.width - 1 - to : to;
      const size_t from = quarters == 0   ? y * wide + x
                          : quarters == 1 ? (high - 1 - x) * wide + y
                          : quarters == 2 ? (high - 1 - y) * wide + (wide - 1 - x)
                                          : x * wide + (wide - 1 - y);
      for (size_t c = 0; c < 3; ++c) {
        made.pixels[(y * made.width + to) * 3 + c] = picture.pixels[from * 3 + c];
      }
    }
  }
  return made;
}

}  // namespace undershelf::checking
