// GIF by giflib: the codes of each picture must give as many pixels as it says, and no other.
#include <gif_lib.h>

#include <algorithm>
#include <cstring>
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
  const auto part = input.bytes.at(input.at, static_cast<size_t>(std::max(length, 0)));
  std::memcpy(out, part.data(), part.size());
  input.at += part.size();
  return static_cast<int>(part.size());
}

bool decode_picture(GifFileType* gif, std::vector<GifPixelType>& row) {
  if (DGifGetImageDesc(gif) == GIF_ERROR) return false;
  const int width = gif->Image.Width;
  if (width <= 0) return true;
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
