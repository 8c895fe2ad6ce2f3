// TIFF by libtiff: every strip and tile that is packed must unpack.
#include <tiffio.h>

#include <algorithm>
#include <memory>
#include <vector>

#include "checking/decoders.h"

namespace undershelf::checking {
namespace {

constexpr tmsize_t kMostPart = 256 << 20;  // bytes of a strip or tile, unpacked
constexpr int kMostDirectories = 256;

struct Input {
  content::Bytes& bytes;
  uint64_t at = 0;
};

tmsize_t read(thandle_t handle, void* out, tmsize_t length) {
  auto& input = *static_cast<Input*>(handle);
  const size_t got =
      read_into(input.bytes, input.at,
                {static_cast<std::byte*>(out), static_cast<size_t>(std::max<tmsize_t>(length, 0))});
  input.at += got;
  return static_cast<tmsize_t>(got);
}

tmsize_t refuse_to_write(thandle_t, void*, tmsize_t) { return 0; }

toff_t seek(thandle_t handle, toff_t offset, int from) {
  auto& input = *static_cast<Input*>(handle);
  if (from == SEEK_CUR) offset += input.at;
  if (from == SEEK_END) offset += input.bytes.size();
  return input.at = offset;
}

int close(thandle_t) { return 0; }
toff_t size(thandle_t handle) { return static_cast<Input*>(handle)->bytes.size(); }
int ignore(TIFF*, void*, const char*, const char*, va_list) { return 1; }

struct Options {
  Options() : handle(TIFFOpenOptionsAlloc()) {
    TIFFOpenOptionsSetErrorHandlerExtR(handle, ignore, nullptr);
    TIFFOpenOptionsSetWarningHandlerExtR(handle, ignore, nullptr);
    TIFFOpenOptionsSetMaxSingleMemAlloc(handle, kMostPart);
  }
  ~Options() { TIFFOpenOptionsFree(handle); }
  Options(const Options&) = delete;
  Options& operator=(const Options&) = delete;
  TIFFOpenOptions* handle;
};

// Whether decoding tells anything of the picture of the present directory.
bool can_tell(TIFF* tiff) {
  uint16_t packing = COMPRESSION_NONE;
  TIFFGetFieldDefaulted(tiff, TIFFTAG_COMPRESSION, &packing);
  return packing != COMPRESSION_NONE && packing != COMPRESSION_OJPEG &&
         TIFFIsCODECConfigured(packing) != 0;
}

// The byte at which the first strip or tile begins that does not unpack; nothing if all do.
std::optional<uint64_t> first_fault(TIFF* tiff, uint64_t size, std::vector<std::byte>& room) {
  const bool tiled = TIFFIsTiled(tiff) != 0;
  const uint32_t parts = tiled ? TIFFNumberOfTiles(tiff) : TIFFNumberOfStrips(tiff);
  const tmsize_t most = tiled ? TIFFTileSize(tiff) : TIFFStripSize(tiff);
  if (most <= 0 || most > kMostPart || parts > size) return std::nullopt;
  room.resize(static_cast<size_t>(most));
  for (uint32_t part = 0; part < parts; ++part) {
    if (TIFFGetStrileByteCount(tiff, part) == 0) continue;  // left out: it is blank
    const tmsize_t got = tiled ? TIFFReadEncodedTile(tiff, part, room.data(), most)
                               : TIFFReadEncodedStrip(tiff, part, room.data(), most);
    if (got < 0) return TIFFGetStrileOffset(tiff, part);
  }
  return std::nullopt;
}

}  // namespace

content::Walk decode_tiff(content::Bytes& bytes, const content::Walk& structure) {
  Input input{bytes};
  const Options options;
  const std::unique_ptr<TIFF, void (*)(TIFF*)> tiff(
      TIFFClientOpenExt("picture", "rm", &input, read, refuse_to_write, seek, close, size, nullptr,
                        nullptr, options.handle),
      [](TIFF* open) {
        if (open != nullptr) TIFFClose(open);
      });
  if (tiff == nullptr) return structure;
  std::vector<std::byte> room;
  for (int directory = 0; directory < kMostDirectories; ++directory) {
    if (can_tell(tiff.get())) {
      if (const auto at = first_fault(tiff.get(), bytes.size(), room)) {
        return content::broken(std::min(*at, bytes.size()),
                               "A part of the picture does not unpack.");
      }
    }
    if (TIFFReadDirectory(tiff.get()) == 0) break;
  }
  return structure;
}

}  // namespace undershelf::checking
