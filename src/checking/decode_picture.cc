#include "checking/decode_picture.h"

#include <gif_lib.h>
#include <libexif/exif-data.h>
#include <png.h>
#include <tiffio.h>
#include <turbojpeg.h>
#include <webp/decode.h>

#include <algorithm>
#include <cstring>
#include <memory>
#include <string_view>
#include <utility>

namespace undershelf::checking {
namespace {

using File = std::span<const uint8_t>;

bool begins(File file, std::string_view mark, size_t at = 0) {
  return file.size() >= at + mark.size() && std::memcmp(&file[at], mark.data(), mark.size()) == 0;
}

// Nothing where a decoder that failed gave nothing: else it would be shown as a white picture.
Picture if_any(Picture picture, bool sound) {
  const bool any =
      sound || std::ranges::any_of(picture.pixels, [](uint8_t v) { return v != 0xFF; });
  return any ? std::move(picture) : Picture{};
}

// By the number with which Exif and TIFF say how a picture lies (TIFF 6.0, "Orientation"); 1: as it
// is.
Picture upright(Picture picture, unsigned orientation) {
  constexpr struct {
    int quarters;
    bool mirrored;
  } kTurns[] = {{0, false}, {0, true},  {2, false}, {2, true},
                {1, true},  {1, false}, {3, true},  {3, false}};
  if (orientation < 1 || orientation > std::size(kTurns)) return picture;
  const auto& turn = kTurns[orientation - 1];
  return turned(std::move(picture), turn.quarters, turn.mirrored);
}

// 0 if a JPEG file does not say it.
unsigned exif_orientation(File file) {
  constexpr size_t kMost = 256 << 10;  // bytes: it stands before the picture
  const std::unique_ptr<ExifData, void (*)(ExifData*)> data(
      exif_data_new_from_data(file.data(), static_cast<unsigned>(std::min(file.size(), kMost))),
      exif_data_unref);
  if (data == nullptr) return 0;
  const ExifEntry* entry = exif_content_get_entry(data->ifd[EXIF_IFD_0], EXIF_TAG_ORIENTATION);
  if (entry == nullptr || entry->format != EXIF_FORMAT_SHORT || entry->size < 2) return 0;
  return exif_get_short(entry->data, exif_data_get_byte_order(data.get()));
}

Picture decode_jpeg(File file, uint32_t wanted, uint64_t most_pixels) {
  const std::unique_ptr<void, int (*)(tjhandle)> decoder(tjInitDecompress(), tjDestroy);
  Picture picture;
  int width = 0;
  int height = 0;
  int sampling = 0;
  int space = 0;
  if (tjDecompressHeader3(decoder.get(), file.data(), file.size(), &width, &height, &sampling,
                          &space) != 0) {
    return {};
  }
  picture.full_width = static_cast<uint32_t>(width);
  picture.full_height = static_cast<uint32_t>(height);
  // The smallest that still has as many pixels as are wanted.
  const uint32_t most = std::max(picture.full_width, picture.full_height);
  tjscalingfactor scale{1, 1};
  for (const int by : {8, 4, 2}) {
    if (most / static_cast<uint32_t>(by) < wanted) continue;
    scale = {1, by};
    break;
  }
  if (!picture.make_room(static_cast<uint64_t>(TJSCALED(width, scale)),
                         static_cast<uint64_t>(TJSCALED(height, scale)), most_pixels)) {
    return {};
  }
  const int result =
      tjDecompress2(decoder.get(), file.data(), file.size(), picture.pixels.data(),
                    static_cast<int>(picture.width), 0, static_cast<int>(picture.height), TJPF_RGB,
                    TJFLAG_FASTDCT | TJFLAG_LIMITSCANS);
  // One that breaks off is shown as far as it goes.
  if (result != 0 && tjGetErrorCode(decoder.get()) == TJERR_FATAL) return {};
  return upright(std::move(picture), exif_orientation(file));
}

// The JPEG with the most pixels of those that begin somewhere in a file; empty if there is none.
File largest_jpeg(File file) {
  constexpr int kMostTried = 256;
  const std::unique_ptr<void, int (*)(tjhandle)> decoder(tjInitDecompress(), tjDestroy);
  const std::string_view text(reinterpret_cast<const char*>(file.data()), file.size());
  File best;
  int64_t most = 0;
  size_t at = text.find("\xFF\xD8\xFF", 1);
  for (int tried = 0; at != text.npos && tried < kMostTried; ++tried) {
    const File from = file.subspan(at);
    int width = 0;
    int height = 0;
    int sampling = 0;
    int space = 0;
    // Lossless ones are the sensor's own data, which is no picture yet: these it does not decode.
    if (tjDecompressHeader3(decoder.get(), from.data(), from.size(), &width, &height, &sampling,
                            &space) == 0 &&
        int64_t{width} * height > most) {
      most = int64_t{width} * height;
      best = from;
    }
    at = text.find("\xFF\xD8\xFF", at + 3);
  }
  return best;
}

Picture decode_largest_jpeg(File file, uint32_t wanted, uint64_t most_pixels) {
  return decode_jpeg(largest_jpeg(file), wanted, most_pixels);
}

Picture decode_png(File file, uint64_t most_pixels) {
  png_image image{};
  image.version = PNG_IMAGE_VERSION;
  Picture picture;
  if (png_image_begin_read_from_memory(&image, file.data(), file.size()) == 0) return {};
  image.format = PNG_FORMAT_RGB;
  bool sound = false;
  if (picture.make_room(image.width, image.height, most_pixels)) {
    const png_color white{255, 255, 255};
    // It gives what it has read even when it fails.
    sound = png_image_finish_read(&image, &white, picture.pixels.data(), 0, nullptr) != 0;
  }
  png_image_free(&image);
  return if_any(std::move(picture), sound);
}

Picture decode_webp(File file, uint64_t most_pixels) {
  Picture picture;
  int width = 0;
  int height = 0;
  if (WebPGetInfo(file.data(), file.size(), &width, &height) == 0 ||
      !picture.make_room(static_cast<uint64_t>(width), static_cast<uint64_t>(height),
                         most_pixels) ||
      WebPDecodeRGBInto(file.data(), file.size(), picture.pixels.data(), picture.pixels.size(),
                        width * 3) == nullptr) {
    return {};
  }
  return picture;
}

struct Input {
  File file;
  uint64_t at = 0;
  size_t read(void* out, size_t length) {
    if (at >= file.size()) return 0;
    length = std::min<size_t>(length, file.size() - at);
    std::memcpy(out, &file[at], length);
    at += length;
    return length;
  }
};

void put(Picture& picture, int64_t x, int64_t y, const GifColorType& colour) {
  if (x < 0 || y < 0 || x >= picture.width || y >= picture.height) return;
  uint8_t* const pixel = &picture.pixels[(static_cast<size_t>(y) * picture.width + x) * 3];
  pixel[0] = colour.Red;
  pixel[1] = colour.Green;
  pixel[2] = colour.Blue;
}

// The lines of the picture that begins here, as far as they are there. Whether all are.
bool read_gif_lines(GifFileType* gif, Picture& picture) {
  const ColorMapObject* map = gif->Image.ColorMap != nullptr ? gif->Image.ColorMap : gif->SColorMap;
  const int width = gif->Image.Width;
  const int height = gif->Image.Height;
  if (map == nullptr || width <= 0 || height <= 0) return false;
  std::vector<GifPixelType> line(static_cast<size_t>(width));
  constexpr int kFirst[] = {0, 4, 2, 1};
  constexpr int kStep[] = {8, 8, 4, 2};
  const int passes = gif->Image.Interlace ? 4 : 1;
  for (int pass = 0; pass < passes; ++pass) {
    const int first = passes == 1 ? 0 : kFirst[pass];
    for (int y = first; y < height; y += passes == 1 ? 1 : kStep[pass]) {
      if (DGifGetLine(gif, line.data(), width) == GIF_ERROR) return false;
      for (int x = 0; x < width; ++x) {
        if (line[static_cast<size_t>(x)] >= map->ColorCount) continue;
        put(picture, int64_t{gif->Image.Left} + x, int64_t{gif->Image.Top} + y,
            map->Colors[line[static_cast<size_t>(x)]]);
      }
    }
  }
  return true;
}

Picture decode_gif(File file, uint64_t most_pixels) {
  Input input{file};
  int error = 0;
  const auto read = [](GifFileType* gif, GifByteType* out, int length) {
    return static_cast<int>(
        static_cast<Input*>(gif->UserData)->read(out, static_cast<size_t>(std::max(length, 0))));
  };
  GifFileType* gif = DGifOpen(&input, read, &error);
  if (gif == nullptr) return {};
  Picture picture;
  bool sound = false;
  if (gif->SWidth > 0 && gif->SHeight > 0 &&
      picture.make_room(static_cast<uint64_t>(gif->SWidth), static_cast<uint64_t>(gif->SHeight),
                        most_pixels)) {
    GifRecordType record = UNDEFINED_RECORD_TYPE;
    GifByteType* block = nullptr;
    int code = 0;
    bool more = true;
    while (more && DGifGetRecordType(gif, &record) != GIF_ERROR) {
      more = record == EXTENSION_RECORD_TYPE && DGifGetExtension(gif, &code, &block) != GIF_ERROR;
      while (more && block != nullptr) more = DGifGetExtensionNext(gif, &block) != GIF_ERROR;
    }
    if (record == IMAGE_DESC_RECORD_TYPE && DGifGetImageDesc(gif) != GIF_ERROR) {
      sound = read_gif_lines(gif, picture);
    }
  }
  DGifCloseFile(gif, &error);
  return if_any(std::move(picture), sound);
}

Picture decode_tiff(File file, uint32_t wanted, uint64_t most_pixels) {
  Input input{file};
  const auto read = [](thandle_t handle, void* out, tmsize_t length) {
    return static_cast<tmsize_t>(
        static_cast<Input*>(handle)->read(out, static_cast<size_t>(std::max<tmsize_t>(length, 0))));
  };
  const auto seek = [](thandle_t handle, toff_t offset, int from) {
    auto& in = *static_cast<Input*>(handle);
    return in.at = offset + (from == SEEK_CUR ? in.at : from == SEEK_END ? in.file.size() : 0);
  };
  TIFFSetErrorHandler(nullptr);
  TIFFSetWarningHandler(nullptr);
  TIFF* tiff = TIFFClientOpen(
      "", "rm", &input, read, [](thandle_t, void*, tmsize_t) -> tmsize_t { return 0; }, seek,
      [](thandle_t) { return 0; },
      [](thandle_t handle) -> toff_t { return static_cast<Input*>(handle)->file.size(); }, nullptr,
      nullptr);
  if (tiff == nullptr) return {};
  Picture picture;
  uint32_t width = 0;
  uint32_t height = 0;
  TIFFGetField(tiff, TIFFTAG_IMAGEWIDTH, &width);
  TIFFGetField(tiff, TIFFTAG_IMAGELENGTH, &height);
  bool sound = false;
  if (picture.make_room(width, height, most_pixels)) {
    std::vector<uint32_t> raster(size_t{width} * height, 0xFFFFFFFF);
    sound =
        TIFFReadRGBAImageOriented(tiff, width, height, raster.data(), ORIENTATION_TOPLEFT, 0) != 0;
    for (size_t i = 0; i < raster.size(); ++i) {
      picture.pixels[3 * i] = static_cast<uint8_t>(TIFFGetR(raster[i]));
      picture.pixels[3 * i + 1] = static_cast<uint8_t>(TIFFGetG(raster[i]));
      picture.pixels[3 * i + 2] = static_cast<uint8_t>(TIFFGetB(raster[i]));
    }
  }
  uint16_t orientation = 0;
  TIFFGetField(tiff, TIFFTAG_ORIENTATION, &orientation);
  TIFFClose(tiff);
  picture = if_any(std::move(picture), sound);
  // A camera's raw file holds a larger picture than the one that stands first, as a JPEG.
  const File jpeg = largest_jpeg(file);
  if (jpeg.empty()) return picture;
  Picture preview = decode_jpeg(jpeg, wanted, most_pixels);
  if (uint64_t{preview.full_width} * preview.full_height <=
      uint64_t{picture.full_width} * picture.full_height) {
    return picture;
  }
  return exif_orientation(jpeg) == 0 ? upright(std::move(preview), orientation) : preview;
}

using Decoder = Picture (*)(File file, uint32_t wanted, uint64_t most_pixels);

// By what a file begins with; null if it is none of those.
Decoder decoder_of(File head) {
  if (begins(head, "\xFF\xD8\xFF")) return decode_jpeg;
  if (begins(head, "\x89PNG")) {
    return [](File file, uint32_t, uint64_t most) { return decode_png(file, most); };
  }
  if (begins(head, "GIF8")) {
    return [](File file, uint32_t, uint64_t most) { return decode_gif(file, most); };
  }
  if (begins(head, "RIFF") && begins(head, "WEBP", 8)) {
    return [](File file, uint32_t, uint64_t most) { return decode_webp(file, most); };
  }
  if (begins(head, {"II*\0", 4}) || begins(head, {"MM\0*", 4})) return decode_tiff;
  // Raw files that are no TIFF, or say so in words of their own.
  for (const std::string_view mark :
       {std::string_view("IIU\0", 4), std::string_view("IIRO"), std::string_view("IIRS"),
        std::string_view("MMOR"), std::string_view("FUJIFILM"), std::string_view("FOVb")}) {
    if (begins(head, mark)) return decode_largest_jpeg;
  }
  return begins(head, "ftypcrx ", 4) ? decode_largest_jpeg : nullptr;
}

}  // namespace

bool begins_a_picture(File head) { return decoder_of(head) != nullptr; }

Picture decode_picture(File file, uint32_t wanted, uint64_t most_pixels) {
  const Decoder decoder = decoder_of(file);
  return decoder == nullptr ? Picture{} : decoder(file, wanted, most_pixels);
}

Picture shrunk(const Picture& picture, uint32_t most_width, uint32_t most_height) {
  Picture small = picture;
  const double by =
      std::max({1.0, double(picture.width) / most_width, double(picture.height) / most_height});
  small.width = std::max(1U, static_cast<uint32_t>(picture.width / by));
  small.height = std::max(1U, static_cast<uint32_t>(picture.height / by));
  if (small.width == picture.width && small.height == picture.height) return small;
  small.pixels.assign(size_t{small.width} * small.height * 3, 0);
  for (uint32_t y = 0; y < small.height; ++y) {
    const uint64_t top = uint64_t{y} * picture.height / small.height;
    const uint64_t bottom = std::max(top + 1, (uint64_t{y} + 1) * picture.height / small.height);
    for (uint32_t x = 0; x < small.width; ++x) {
      const uint64_t left = uint64_t{x} * picture.width / small.width;
      const uint64_t right = std::max(left + 1, (uint64_t{x} + 1) * picture.width / small.width);
      uint64_t sums[3] = {};
      for (uint64_t from = top; from < bottom; ++from) {
        for (uint64_t at = left; at < right; ++at) {
          for (size_t c = 0; c < 3; ++c)
            sums[c] += picture.pixels[(from * picture.width + at) * 3 + c];
        }
      }
      const uint64_t count = (bottom - top) * (right - left);
      for (size_t c = 0; c < 3; ++c) {
        small.pixels[(size_t{y} * small.width + x) * 3 + c] = static_cast<uint8_t>(sums[c] / count);
      }
    }
  }
  return small;
}

}  // namespace undershelf::checking
