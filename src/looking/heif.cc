#include <libheif/heif.h>

#include <algorithm>
#include <cstring>
#include <memory>
#include <vector>

#include "looking/decode.h"
#include "looking/heif_codec.h"

namespace undershelf::looking {

checking::Picture decode_heif(content::Bytes& bytes, uint64_t most_pixels) {
  const auto head = bytes.at(0, 32);
  if (head.size() < 32 || heif_check_filetype(reinterpret_cast<const uint8_t*>(head.data()), 32) !=
                              heif_filetype_yes_supported) {
    return {};
  }
  use_libavcodec_for_heif();
  const std::vector<uint8_t> file = whole(bytes);
  const std::unique_ptr<heif_context, void (*)(heif_context*)> context(heif_context_alloc(),
                                                                       heif_context_free);
  heif_context_set_max_decoding_threads(context.get(), 0);  // of a grid: in the thread that calls
  heif_image_handle* primary = nullptr;
  if (heif_context_read_from_memory_without_copy(context.get(), file.data(), file.size(), nullptr)
              .code != heif_error_Ok ||
      heif_context_get_primary_image_handle(context.get(), &primary).code != heif_error_Ok) {
    return {};
  }
  const std::unique_ptr<const heif_image_handle, void (*)(const heif_image_handle*)> handle(
      primary, heif_image_handle_release);
  checking::Picture picture;
  const auto wide = static_cast<uint64_t>(std::max(0, heif_image_handle_get_width(primary)));
  const auto high = static_cast<uint64_t>(std::max(0, heif_image_handle_get_height(primary)));
  if (!picture.make_room(wide, high, most_pixels)) return {};
  heif_image* decoded = nullptr;
  if (heif_decode_image(primary, &decoded, heif_colorspace_RGB, heif_chroma_interleaved_RGB,
                        nullptr)
          .code != heif_error_Ok) {
    return {};
  }
  const std::unique_ptr<const heif_image, void (*)(const heif_image*)> image(decoded,
                                                                             heif_image_release);
  int stride = 0;
  const uint8_t* lines = heif_image_get_plane_readonly(decoded, heif_channel_interleaved, &stride);
  // What was decoded need not be of the size that was said.
  const int width = heif_image_get_width(decoded, heif_channel_interleaved);
  const int height = heif_image_get_height(decoded, heif_channel_interleaved);
  if (lines == nullptr || width != static_cast<int>(wide) || height != static_cast<int>(high) ||
      stride < width * 3) {
    return {};
  }
  for (size_t y = 0; y < high; ++y) {
    std::memcpy(&picture.pixels[y * wide * 3], lines + y * static_cast<size_t>(stride), wide * 3);
  }
  return picture;
}

}  // namespace undershelf::looking
