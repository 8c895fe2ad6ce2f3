// Pictures, made small enough to look at. Decoders run in a box (checking/box.h).
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "checking/box.h"
#include "checking/picture.h"
#include "stream/stream.h"

namespace undershelf::checking {

using Preview = Picture;  // a small one; full_width 0: of a page, which has no pixels of its own

// What there is to see of a file.
struct Look {
  std::optional<Preview> picture;
  // The first of an office document: lines of UTF-8; control characters may be among them. To be
  // shown rather than its picture, which may be of another state of it, or of its template.
  std::string words;
};

// Said where Previewer::decodes_all() is false.
constexpr std::string_view kNotAllDecoders =
    "What decodes HEIC, video, PDF and more, undershelf-looking.so, is not beside the program.";

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

  // Of what `task` reads, by its content: pictures of the formats that decode_picture.h and
  // looking/decode.h name, the first frame of video, and of documents what office.h names; of one
  // that breaks off what there is of it, as far as its decoder gives that. Nothing if it is none of
  // these, or does not decode. Throws Error (unavailable) if there can be no box here.
  Look look(const Task& task);
  // Likewise of a stream, in which what is missing reads as the stream fills it.
  Look look(const StreamReader& stream);

  // Whether the decoders of looking/decode.h are there: they are a file of their own beside the
  // program (or in ../lib/undershelf).
  bool decodes_all() const { return decodes_all_; }

 private:
  struct Shared;
  Shared* shared_;  // with the process in the box
  bool decodes_all_;
  std::unique_ptr<Box> box_;
};

}  // namespace undershelf::checking
