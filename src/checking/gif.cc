// GIF by giflib: the codes of each picture must give as many pixels as it says, and no other.
#include <gif_lib.h>

#include <algorithm>
#include <span>
#include <vector>

#include "checking/decoders.h"

namespace undershelf::checking {
namespace {

struct Input {
  content::Bytes& bytes;
  uint64_t at = 0;  // what is read next
};

int read(GifFileType* gif, GifByteType* out, int length) {
  auto& input = *static_cast<Input*>(gif->UserData);
  const auto got =
      read_into(input.bytes, input.at,
                std::as_writable_bytes(std::span(out, static_cast<size_t>(std::max(length, 0)))));
  input.at += got;
  return static_cast<int>(got);
}

// Reads over the sub-blocks of a picture that has no pixels: no line would.
bool skip_codes(GifFileType* gif) {
  GifByteType* block = nullptr;
  do {
    if (DGifGetCodeNext(gif, &block) == GIF_ERROR) return false;
  } while (block != nullptr);
  return true;
}

bool decode_picture(GifFileType* gif, std::vector<GifPixelType>& row) {
  if (DGifGetImageDesc(gif) == GIF_ERROR) return false;
  const int width = gif->Image.Width;
  if (width <= 0 || gif->Image.Height <= 0) return skip_codes(gif);
  row.resize(static_cast<size_t>(width));
  for (int y = 0; y < gif->Image.Height; ++y) {
    if (DGifGetLine(gif, row.data(), width) == GIF_ERROR) return false;
  }
  return true;
}

bool skip_extension(GifFileType* gif) {
  int code = 0;
  GifByteType* block = nullptr;
  if (DGifGetExtension(gif, &code, &block) == GIF_ERROR) return false;
  while (block != nullptr) {
    if (DGifGetExtensionNext(gif, &block) == GIF_ERROR) return false;
  }
  return true;
}

}  // namespace

content::Walk decode_gif(content::Bytes& bytes, const content::Walk& structure) {
  Input input{bytes};
  int error = 0;
  GifFileType* gif = DGifOpen(&input, read, &error);
  if (gif == nullptr) return structure;
  std::vector<GifPixelType> row;
  bool sound = true;
  uint64_t begin = 0;  // of the part under way
  for (GifRecordType kind = UNDEFINED_RECORD_TYPE; sound && kind != TERMINATE_RECORD_TYPE;) {
    begin = input.at;
    sound = DGifGetRecordType(gif, &kind) != GIF_ERROR;
    if (sound && kind == IMAGE_DESC_RECORD_TYPE) sound = decode_picture(gif, row);
    if (sound && kind == EXTENSION_RECORD_TYPE) sound = skip_extension(gif);
  }
  // The library reads block by block, so that it is at the block that does not decode.
  const uint64_t at = std::max(begin, input.at - std::min<uint64_t>(input.at, 256));
  DGifCloseFile(gif, &error);
  if (!sound) return content::broken(std::min(at, bytes.size()), "A picture does not decode.");
  return structure;
}

}  // namespace undershelf::checking
