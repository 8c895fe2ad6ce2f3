// Pictures of formats whose decoders are large: HEIC and AVIF, first frames of video, BMP, PSD. In
// a module of its own, which is loaded where pictures are looked at and by nothing else: its
// libraries would double the time in which every other command begins.
#pragma once

#include <cstdint>
#include <vector>

#include "checking/picture.h"
#include "content/bytes.h"

namespace undershelf::looking {

// The module (model/module.h), the functions in it, and the type of the second. The first is called
// once before there is a box: it reads which fonts the system has. The second is to be called in
// the box only.
constexpr const char* kModule = "undershelf-looking.so";
constexpr const char* kPrepare = "undershelf_prepare";
constexpr const char* kDecode = "undershelf_decode";
// `wanted`: as many pixels each way will do. No picture of more than `most_pixels` is made.
using Decode = void(content::Bytes& bytes, uint32_t wanted, uint64_t most_pixels,
                    checking::Picture& picture);

// All of a file, up to 256 MiB or a hole.
std::vector<uint8_t> whole(content::Bytes& bytes);

// HEIC and AVIF (ISO/IEC 23008-12): the primary picture, turned as the file says.
checking::Picture decode_heif(content::Bytes& bytes, uint64_t most_pixels);

// The first frame that decodes of the first stream of pictures in any format that libavformat reads
// by its content; turned as the stream says. A still picture has one frame.
checking::Picture decode_frame(content::Bytes& bytes, uint64_t most_pixels);

// The first page of a PDF document (ISO 32000), as large as is wanted. Text whose font is not in it
// is left out, as the box opens no files.
checking::Picture decode_page(content::Bytes& bytes, uint32_t wanted);

}  // namespace undershelf::looking
