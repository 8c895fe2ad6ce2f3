// JPEG by libjpeg: its warnings are what a picture does not survive whole. That it decodes without
// one is no proof: codes fall into step again behind other pictures' bytes, and of clusters that
// were exchanged for those of another picture one in five to twelve goes unnoticed (measured at 512
// bytes to 16 KiB).
#include <array>
#include <csetjmp>
#include <cstddef>
#include <cstdint>
#include <cstdio>
#include <vector>

// jpeglib.h needs what is above.
#include <jerror.h>
#include <jpeglib.h>

#include "checking/decoders.h"

namespace undershelf::checking {
namespace {

constexpr size_t kBuffer = 64 << 10;           // bytes
constexpr uint64_t kMostPixels = 400'000'000;  // more than any camera makes

struct Input {
  jpeg_source_mgr manager;
  content::Bytes* bytes;
  uint64_t next;  // byte of the file behind the buffer
  bool ended;
  uint64_t position() const { return next - (ended ? 0 : manager.bytes_in_buffer); }
};

struct Faults {
  jpeg_error_mgr manager;
  std::jmp_buf leave;
  bool warned;
  bool too_large;
  uint64_t at;  // byte of the file, where the first was met
};

boolean fill(j_decompress_ptr picture) {
  auto* input = reinterpret_cast<Input*>(picture->src);
  const auto part = input->bytes->at(input->next, kBuffer);
  static const std::array<JOCTET, 2> kEnd = {0xFF, JPEG_EOI};
  if (part.empty()) {
    WARNMS(picture, JWRN_JPEG_EOF);
    input->ended = true;
    input->manager.next_input_byte = kEnd.data();
    input->manager.bytes_in_buffer = kEnd.size();
    return TRUE;
  }
  input->next += part.size();
  input->manager.next_input_byte = reinterpret_cast<const JOCTET*>(part.data());
  input->manager.bytes_in_buffer = part.size();
  return TRUE;
}

void skip(j_decompress_ptr picture, long count) {
  auto* input = reinterpret_cast<Input*>(picture->src);
  while (count > 0) {
    if (input->manager.bytes_in_buffer == 0 && fill(picture) == FALSE) return;
    if (input->ended) return;
    const size_t step =
        std::min<size_t>(static_cast<size_t>(count), input->manager.bytes_in_buffer);
    input->manager.next_input_byte += step;
    input->manager.bytes_in_buffer -= step;
    count -= static_cast<long>(step);
  }
}

void nothing(j_decompress_ptr) {}
void silent(j_common_ptr) {}

void note(j_common_ptr picture, int level) {
  auto* faults = reinterpret_cast<Faults*>(picture->err);
  if (level >= 0 || faults->warned) return;
  // Others are about marks that no decoder needs.
  switch (faults->manager.msg_code) {
    case JWRN_HIT_MARKER:
    case JWRN_HUFF_BAD_CODE:
    case JWRN_BOGUS_PROGRESSION:
    case JWRN_EXTRANEOUS_DATA:
    case JWRN_JPEG_EOF:
    case JWRN_MUST_RESYNC:
    case JWRN_TOO_MUCH_DATA:
      break;
    default:
      return;
  }
  faults->warned = true;
  const auto* decoding = reinterpret_cast<j_decompress_ptr>(picture);
  faults->at = reinterpret_cast<const Input*>(decoding->src)->position();
}

[[noreturn]] void fail(j_common_ptr picture) {
  auto* faults = reinterpret_cast<Faults*>(picture->err);
  if (faults->manager.msg_code == JERR_OUT_OF_MEMORY) faults->too_large = true;
  if (!faults->warned) {
    const auto* decoding = reinterpret_cast<j_decompress_ptr>(picture);
    faults->at = reinterpret_cast<const Input*>(decoding->src)->position();
  }
  std::longjmp(faults->leave, 1);
}

}  // namespace

content::Walk decode_jpeg(content::Bytes& bytes, const content::Walk& structure) {
  std::vector<JSAMPLE> row(1 << 20);  // before setjmp: nothing made behind it is destroyed
  jpeg_decompress_struct picture{};
  Faults faults{};
  Input input{};
  picture.err = jpeg_std_error(&faults.manager);
  faults.manager.error_exit = fail;
  faults.manager.emit_message = note;
  faults.manager.output_message = silent;
  volatile bool failed = false;     // set behind setjmp
  if (setjmp(faults.leave) == 0) {  // NOLINT(bugprone-*): the library's way
    jpeg_create_decompress(&picture);
    input.bytes = &bytes;
    input.manager.init_source = nothing;
    input.manager.fill_input_buffer = fill;
    input.manager.skip_input_data = skip;
    input.manager.resync_to_restart = jpeg_resync_to_restart;
    input.manager.term_source = nothing;
    picture.src = &input.manager;
    jpeg_read_header(&picture, TRUE);
    // All codes are read; the pixels are made small.
    picture.scale_num = 1;
    picture.scale_denom = 8;
    picture.dct_method = JDCT_IFAST;
    faults.too_large = uint64_t{picture.image_width} * picture.image_height > kMostPixels;
    if (!faults.too_large) {
      jpeg_start_decompress(&picture);
      JSAMPROW line = row.data();
      while (picture.output_scanline < picture.output_height)
        jpeg_read_scanlines(&picture, &line, 1);
      jpeg_finish_decompress(&picture);
    }
  } else {
    failed = true;
  }
  jpeg_destroy_decompress(&picture);
  if (faults.too_large) return structure;
  if (failed || faults.warned) {
    return content::broken(std::min(faults.at, bytes.size()), "The picture does not decode.");
  }
  return content::ended(content::Level::consistent, structure.end.value_or(bytes.size()));
}

}  // namespace undershelf::checking
