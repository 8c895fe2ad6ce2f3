// WebP by libwebp: each picture of the file must decode.
#include <webp/decode.h>
#include <webp/demux.h>

#include <algorithm>
#include <memory>
#include <vector>

#include "checking/decoders.h"

namespace undershelf::checking {
namespace {

constexpr uint64_t kMostBytes = 128 << 20;
constexpr int64_t kMostPixels = 1 << 26;  // a quarter of what the format can say

// Whether a picture decodes, or is too large to be tried.
bool decodes(const WebPIterator& picture) {
  WebPDecoderConfig config;
  if (WebPInitDecoderConfig(&config) == 0) return true;
  const auto* bytes = picture.fragment.bytes;
  const size_t size = picture.fragment.size;
  if (WebPGetFeatures(bytes, size, &config.input) != VP8_STATUS_OK) return false;
  if (int64_t{config.input.width} * config.input.height > kMostPixels) return true;
  config.options.use_scaling = 1;  // all codes are read; the pixels are made few
  config.options.scaled_width = std::max(1, config.input.width / 8);
  config.options.scaled_height = std::max(1, config.input.height / 8);
  config.output.colorspace = MODE_RGBA;
  const VP8StatusCode code = WebPDecode(bytes, size, &config);
  WebPFreeDecBuffer(&config.output);
  return code == VP8_STATUS_OK || code == VP8_STATUS_OUT_OF_MEMORY;
}

}  // namespace

content::Walk decode_webp(content::Bytes& bytes, const content::Walk& structure) {
  const uint64_t size = structure.end.value_or(0);
  if (size == 0 || size > kMostBytes) return structure;
  std::vector<uint8_t> copy(size);
  const uint64_t got = read_into(bytes, 0, std::as_writable_bytes(std::span(copy)));
  if (got < size) return content::broken(got, "It ends inside a picture.");
  const WebPData file{copy.data(), copy.size()};
  const std::unique_ptr<WebPDemuxer, void (*)(WebPDemuxer*)> parts(WebPDemux(&file),
                                                                   WebPDemuxDelete);
  if (parts == nullptr) return content::broken(0, "Its pictures do not add up.");
  WebPIterator picture;
  std::optional<uint64_t> fault;
  if (WebPDemuxGetFrame(parts.get(), 1, &picture) != 0) {
    do {
      if (!decodes(picture)) {
        fault = static_cast<uint64_t>(picture.fragment.bytes - copy.data());
      }
    } while (!fault && WebPDemuxNextFrame(&picture) != 0);
    WebPDemuxReleaseIterator(&picture);
  }
  return fault ? content::broken(*fault, "The picture does not decode.") : structure;
}

}  // namespace undershelf::checking
