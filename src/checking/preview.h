// Pictures, made small enough to look at. Decoders run in a box (checking/box.h).
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "checking/box.h"
#include "stream/stream.h"

namespace undershelf::checking {

struct Preview {
  uint32_t width = 0, height = 0;            // pixels
  uint32_t full_width = 0, full_height = 0;  // of the picture itself
  std::vector<uint8_t> pixels;               // red, green, blue; line by line, from the top
};

// As a PNG file's content.
std::string png_of(const Preview& preview);

// Not to be shared between threads.
class Previewer {
 public:
  // Previews fit into so many pixels; at most 2,048 each way.
  Previewer(uint32_t most_width, uint32_t most_height);
  ~Previewer();
  Previewer(const Previewer&) = delete;
  Previewer& operator=(const Previewer&) = delete;

  // Of what `task` reads: JPEG, PNG, GIF (its first picture), WebP and TIFF, by their marks; of one
  // that breaks off what there is of it, as far as its decoder gives that. Nothing if it is none of
  // these, or does not decode. Throws Error (unavailable) if there can be no box here.
  std::optional<Preview> make(const Task& task);
  // Likewise of a stream, in which what is missing reads as the stream fills it.
  std::optional<Preview> make(const StreamReader& stream);

 private:
  struct Shared;
  Shared* shared_;  // with the process in the box
  std::unique_ptr<Box> box_;
};

}  // namespace undershelf::checking
