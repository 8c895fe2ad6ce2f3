// HEVC and AV1 in HEIF, decoded by libavcodec: libheif's own decoders start threads, which the box
// does not allow.
#include "looking/heif_codec.h"

#include <libheif/heif.h>
#include <libheif/heif_plugin.h>

#include <algorithm>
#include <array>
#include <cstring>
#include <vector>

#include "looking/av.h"

namespace undershelf::looking {
namespace {

constexpr heif_error kGood{heif_error_Ok, heif_suberror_Unspecified, ""};
constexpr heif_error kBad{heif_error_Decoder_plugin_error, heif_suberror_Unspecified, ""};

// One picture's worth, with its parameter sets in front; as libheif hands it over, each unit after
// its length (ISO/IEC 14496-15, 4 bytes).
struct Units {
  std::vector<uint8_t> bytes;
};

AVCodecID codec_in(const std::vector<uint8_t>& bytes) {
  // An AV1 stream begins with its head or a delimiter; the first byte of a length is 0.
  return !bytes.empty() && bytes[0] != 0 ? AV_CODEC_ID_AV1 : AV_CODEC_ID_HEVC;
}

// Start codes for lengths (ITU-T H.265, annex B).
std::vector<uint8_t> byte_stream(const std::vector<uint8_t>& units) {
  std::vector<uint8_t> stream;
  for (size_t at = 0; at + 4 <= units.size();) {
    const size_t length = size_t{units[at]} << 24 | size_t{units[at + 1]} << 16 |
                          size_t{units[at + 2]} << 8 | units[at + 3];
    at += 4;
    const size_t there = std::min(length, units.size() - at);
    stream.insert(stream.end(), {0, 0, 0, 1});
    stream.insert(stream.end(), units.begin() + static_cast<std::ptrdiff_t>(at),
                  units.begin() + static_cast<std::ptrdiff_t>(at + there));
    at += there;
  }
  return stream;
}

Owned<AVFrame> decode(const Units& units) {
  const AVCodecID id = codec_in(units.bytes);
  std::vector<uint8_t> data = id == AV_CODEC_ID_HEVC ? byte_stream(units.bytes) : units.bytes;
  const size_t size = data.size();
  data.resize(size + AV_INPUT_BUFFER_PADDING_SIZE);
  const AVCodec* decoder = avcodec_find_decoder(id);
  if (decoder == nullptr || size == 0 || size > INT32_MAX) return nullptr;
  Owned<AVCodecContext> codec(avcodec_alloc_context3(decoder));
  Owned<AVPacket> packet(av_packet_alloc());
  Owned<AVFrame> frame(av_frame_alloc());
  if (codec == nullptr || packet == nullptr || frame == nullptr) return nullptr;
  codec->thread_count = 1;
  if (avcodec_open2(codec.get(), decoder, nullptr) < 0) return nullptr;
  packet->data = data.data();
  packet->size = static_cast<int>(size);
  avcodec_send_packet(codec.get(), packet.get());
  avcodec_send_packet(codec.get(), nullptr);  // there are no more
  return avcodec_receive_frame(codec.get(), frame.get()) < 0 ? nullptr : std::move(frame);
}

// In 8 bits and one of the three ways in which colours are sampled.
heif_error image_of(const AVFrame& frame, heif_image** made) {
  int across = 1;  // log2: fewer colours than pixels
  int down = 1;
  av_pix_fmt_get_chroma_sub_sample(static_cast<AVPixelFormat>(frame.format), &across, &down);
  const bool full = across == 0;
  const heif_chroma chroma = full ? heif_chroma_444 : down == 0 ? heif_chroma_422 : heif_chroma_420;
  const AVPixelFormat format = full        ? AV_PIX_FMT_YUV444P
                               : down == 0 ? AV_PIX_FMT_YUV422P
                                           : AV_PIX_FMT_YUV420P;
  heif_image* image = nullptr;
  if (heif_image_create(frame.width, frame.height, heif_colorspace_YCbCr, chroma, &image).code !=
      heif_error_Ok) {
    return kBad;
  }
  const std::array<heif_channel, 3> channels = {heif_channel_Y, heif_channel_Cb, heif_channel_Cr};
  std::array<uint8_t*, 4> planes = {};
  std::array<int, 4> strides = {};
  bool good = true;
  for (size_t c = 0; c < channels.size() && good; ++c) {
    const int width = c == 0 || full ? frame.width : (frame.width + 1) / 2;
    const int height = c == 0 || chroma != heif_chroma_420 ? frame.height : (frame.height + 1) / 2;
    good = heif_image_add_plane(image, channels[c], width, height, 8).code == heif_error_Ok;
    planes[c] = good ? heif_image_get_plane(image, channels[c], &strides[c]) : nullptr;
    good = good && planes[c] != nullptr;
  }
  const Owned<SwsContext> scaler(
      sws_getContext(frame.width, frame.height, static_cast<AVPixelFormat>(frame.format),
                     frame.width, frame.height, format, SWS_POINT, nullptr, nullptr, nullptr));
  if (!good || scaler == nullptr ||
      sws_scale(scaler.get(), frame.data, frame.linesize, 0, frame.height, planes.data(),
                strides.data()) != frame.height) {
    heif_image_release(image);
    return kBad;
  }
  *made = image;
  return kGood;
}

const heif_decoder_plugin kPlugin = {
    3,
    [] { return "libavcodec"; },
    nullptr,
    nullptr,
    [](heif_compression_format format) {
      return format == heif_compression_HEVC || format == heif_compression_AV1 ? 1000 : 0;
    },
    [](void** decoder) {
      *decoder = new Units;
      return kGood;
    },
    [](void* decoder) { delete static_cast<Units*>(decoder); },
    [](void* decoder, const void* data, size_t size) {
      auto& bytes = static_cast<Units*>(decoder)->bytes;
      const auto* from = static_cast<const uint8_t*>(data);
      bytes.insert(bytes.end(), from, from + size);
      return kGood;
    },
    [](void* decoder, heif_image** image) {
      const Owned<AVFrame> frame = decode(*static_cast<Units*>(decoder));
      return frame == nullptr ? kBad : image_of(*frame, image);
    },
    nullptr,
    "libavcodec",
};

}  // namespace

void use_libavcodec_for_heif() {
  av_log_set_level(AV_LOG_QUIET);
  heif_register_decoder_plugin(&kPlugin);
}

}  // namespace undershelf::looking
