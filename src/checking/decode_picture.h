// A picture's pixels, from a file in memory. In the box only. For the room's own use.
#pragma once

#include <cstdint>
#include <span>
#include <vector>

namespace undershelf::checking {

struct Picture {
  uint32_t width = 0, height = 0;            // pixels; 0: none
  uint32_t full_width = 0, full_height = 0;  // before the decoder made it smaller
  std::vector<uint8_t> pixels;               // red, green, blue; line by line
};

// `wanted`: as many pixels each way will do, so that a decoder may leave out others. A picture of
// more than `most_pixels` after that is none; it takes up to 7 bytes for each.
Picture decode_picture(std::span<const uint8_t> file, uint32_t wanted, uint64_t most_pixels);

// Fitted into so many pixels, by the mean of those that become one; never made larger.
Picture shrunk(const Picture& picture, uint32_t most_width, uint32_t most_height);

}  // namespace undershelf::checking
