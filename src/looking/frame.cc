#include <algorithm>
#include <cmath>
#include <cstring>
#include <vector>

#include "looking/av.h"
#include "looking/decode.h"

namespace undershelf::looking {
namespace {

constexpr int kBuffer = 64 << 10;         // bytes, of input
constexpr int kMostPackets = 4000;        // looked at until a frame decodes
constexpr int64_t kMostProbed = 8 << 20;  // bytes, for what streams there are
// No format that names other files, and none that is only guessed by an ending.
constexpr const char* kFormats =
    "mov,matroska,avi,asf,mpeg,mpegts,mpegvideo,flv,ogg,h264,hevc,m4v,mjpeg,mxf,rm,dv,ivf,"
    "bmp_pipe,psd_pipe,j2k_pipe,exr_pipe,tiff_pipe,dds_pipe,pcx_pipe,sgi_pipe,pam_pipe,ppm_pipe,"
    "pgm_pipe,qdraw_pipe,sunrast_pipe,xwd_pipe,xpm_pipe,jpegls_pipe,dpx_pipe,pictor_pipe";

struct Input {
  content::Bytes& bytes;
  uint64_t at = 0;
};

int read_some(void* opaque, uint8_t* out, int length) {
  auto& input = *static_cast<Input*>(opaque);
  if (input.at >= input.bytes.size()) return AVERROR_EOF;
  const auto part = input.bytes.at(input.at, static_cast<size_t>(length));
  if (part.empty()) {  // a hole: frames behind it may still decode
    const auto n = static_cast<size_t>(
        std::min<uint64_t>(static_cast<uint64_t>(length), input.bytes.size() - input.at));
    std::memset(out, 0, n);
    input.at += n;
    return static_cast<int>(n);
  }
  std::memcpy(out, part.data(), part.size());
  input.at += part.size();
  return static_cast<int>(part.size());
}

int64_t seek_to(void* opaque, int64_t offset, int whence) {
  auto& input = *static_cast<Input*>(opaque);
  const auto size = static_cast<int64_t>(input.bytes.size());
  if ((whence & AVSEEK_SIZE) != 0) return size;
  const int from = whence & ~AVSEEK_FORCE;
  const int64_t base = from == SEEK_CUR   ? static_cast<int64_t>(input.at)
                       : from == SEEK_END ? size
                                          : 0;
  if (offset > size || offset < -size || base + offset < 0) return AVERROR(EINVAL);
  input.at = static_cast<uint64_t>(base + offset);
  return base + offset;
}

Owned<AVFormatContext> open(AVIOContext* io) {
  AVFormatContext* format = avformat_alloc_context();
  if (format == nullptr) return nullptr;
  format->pb = io;
  format->probesize = kMostProbed;
  AVDictionary* options = nullptr;
  av_dict_set(&options, "format_whitelist", kFormats, 0);
  const int result = avformat_open_input(&format, nullptr, nullptr, &options);  // frees on failure
  av_dict_free(&options);
  return Owned<AVFormatContext>(result < 0 ? nullptr : format);
}

Owned<AVCodecContext> codec_of(const AVStream* stream, const AVCodec* decoder) {
  Owned<AVCodecContext> codec(avcodec_alloc_context3(decoder));
  if (codec == nullptr || avcodec_parameters_to_context(codec.get(), stream->codecpar) < 0) {
    return nullptr;
  }
  codec->thread_count = 1;
  return avcodec_open2(codec.get(), decoder, nullptr) < 0 ? nullptr : std::move(codec);
}

// The first frame of that stream which decodes; null if there is none.
Owned<AVFrame> first_frame(AVFormatContext* format, int stream, AVCodecContext* codec) {
  Owned<AVPacket> packet(av_packet_alloc());
  Owned<AVFrame> frame(av_frame_alloc());
  if (packet == nullptr || frame == nullptr) return nullptr;
  for (int seen = 0; seen < kMostPackets; ++seen) {
    const bool ended = av_read_frame(format, packet.get()) < 0;
    if (!ended && packet->stream_index != stream) {
      av_packet_unref(packet.get());
      continue;
    }
    avcodec_send_packet(codec, ended ? nullptr : packet.get());
    av_packet_unref(packet.get());
    if (avcodec_receive_frame(codec, frame.get()) >= 0) return frame;
    if (ended) break;
  }
  return nullptr;
}

checking::Picture picture_of(const AVFrame& frame, uint64_t most_pixels) {
  checking::Picture picture;
  const auto width = static_cast<uint64_t>(std::max(0, frame.width));
  const auto height = static_cast<uint64_t>(std::max(0, frame.height));
  if (!picture.make_room(width, height, most_pixels)) return {};
  const Owned<SwsContext> scaler(sws_getContext(
      frame.width, frame.height, static_cast<AVPixelFormat>(frame.format), frame.width,
      frame.height, AV_PIX_FMT_RGB24, SWS_POINT, nullptr, nullptr, nullptr));
  if (scaler == nullptr) return {};
  // Its lines may end later than the picture's.
  const size_t stride = (width * 3 + 63) / 64 * 64;
  std::vector<uint8_t> lines(stride * height + 64);
  uint8_t* const to[4] = {lines.data(), nullptr, nullptr, nullptr};
  const int strides[4] = {static_cast<int>(stride), 0, 0, 0};
  if (sws_scale(scaler.get(), frame.data, frame.linesize, 0, frame.height, to, strides) !=
      frame.height) {
    return {};
  }
  for (size_t y = 0; y < height; ++y) {
    std::memcpy(&picture.pixels[y * width * 3], &lines[y * stride], width * 3);
  }
  return picture;
}

// Quarter turns clockwise, 0 to 3, with which the stream is to be shown.
int turns_of(const AVStream* stream) {
  size_t size = 0;
  const uint8_t* matrix = av_stream_get_side_data(stream, AV_PKT_DATA_DISPLAYMATRIX, &size);
  if (matrix == nullptr || size < 9 * sizeof(int32_t)) return 0;
  int32_t numbers[9];
  std::memcpy(numbers, matrix, sizeof numbers);
  const double degrees = -av_display_rotation_get(numbers);
  if (!std::isfinite(degrees)) return 0;
  return ((static_cast<int>(std::lround(degrees / 90)) % 4) + 4) % 4;
}

}  // namespace

checking::Picture decode_frame(content::Bytes& bytes, uint64_t most_pixels) {
  av_log_set_level(AV_LOG_QUIET);
  Input input{bytes};
  auto* buffer = static_cast<uint8_t*>(av_malloc(kBuffer));
  if (buffer == nullptr) return {};
  const Owned<AVIOContext> io(
      avio_alloc_context(buffer, kBuffer, 0, &input, read_some, nullptr, seek_to));
  const Owned<AVFormatContext> format = open(io.get());
  if (format == nullptr || avformat_find_stream_info(format.get(), nullptr) < 0) return {};
  const AVCodec* decoder = nullptr;
  const int index = av_find_best_stream(format.get(), AVMEDIA_TYPE_VIDEO, -1, -1, &decoder, 0);
  if (index < 0 || decoder == nullptr) return {};
  const AVStream* stream = format->streams[index];
  const Owned<AVCodecContext> codec = codec_of(stream, decoder);
  if (codec == nullptr) return {};
  const Owned<AVFrame> frame = first_frame(format.get(), index, codec.get());
  if (frame == nullptr) return {};
  return turned(picture_of(*frame, most_pixels), turns_of(stream), false);
}

}  // namespace undershelf::looking
