// A picture's pixels, from a file in memory. In the box only. For the room's own use.
#pragma once

#include <cstdint>
#include <span>

#include "checking/picture.h"

namespace undershelf::checking {

// JPEG (turned as its Exif data says), PNG, GIF (its first picture), WebP, TIFF, and the largest
// JPEG in a camera's raw file (turned as that says), by their marks. `wanted`: as many pixels each
// way will do, so that a decoder may leave out others. A picture of more than `most_pixels` after
// that is none; it takes up to 7 bytes for each.
Picture decode_picture(std::span<const uint8_t> file, uint32_t wanted, uint64_t most_pixels);

// Whether a file that begins with these bytes, twelve if it has them, is one of those.
bool begins_a_picture(std::span<const uint8_t> head);

// Fitted into so many pixels, at least one, by the mean of those that become one; never made
// larger.
Picture shrunk(const Picture& picture, uint32_t most_width, uint32_t most_height);

}  // namespace undershelf::checking
