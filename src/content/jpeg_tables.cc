// Tables of a JPEG (ITU-T T.81, B.2.4): Huffman codes, and quantization steps.
#include "content/jpeg_decoder.h"

namespace undershelf::content {

bool JpegDecoder::tables(const std::vector<uint8_t>& body) {
  for (size_t at = 0; at + 17 <= body.size();) {
    const uint8_t which = body[at];
    auto table = std::make_shared<JpegTable>();
    int32_t code = 0;
    size_t total = 0;
    for (int length = 1; length <= 16; ++length) {
      const uint8_t count = body[at + static_cast<size_t>(length)];
      table->offset[length] = static_cast<int32_t>(total) - code;
      code += count;
      total += count;
      table->last[length] = count == 0 ? -1 : code - 1;
      if (code > 1 << length) return false;
      code <<= 1;
    }
    at += 17;
    if (total > 256 || at + total > body.size() || (which & 0xF) > 3 || which >> 4 > 1) {
      return false;
    }
    std::copy_n(body.begin() + static_cast<ptrdiff_t>(at), total, table->values.begin());
    at += total;
    make_fast(*table);
    tables_[which >> 4][which & 3] = std::move(table);
  }
  return true;
}

// B.2.4.1.
bool JpegDecoder::steps(const std::vector<uint8_t>& body) {
  for (size_t at = 0; at < body.size();) {
    const uint8_t which = body[at++];
    const size_t bytes = which >> 4 == 0 ? 1 : 2;
    if ((which & 0xF) > 3 || body.size() - at < 64 * bytes) return false;
    for (uint16_t& step : steps_[which & 3]) {
      step = bytes == 1 ? body[at] : static_cast<uint16_t>(body[at] << 8 | body[at + 1]);
      at += bytes;
    }
  }
  return true;
}

void JpegDecoder::make_fast(JpegTable& table) {
  for (unsigned next = 0; next < 256; ++next) {
    int32_t code = 0;
    for (int length = 1; length <= 8; ++length) {
      code = static_cast<int32_t>(next >> (8 - length));
      if (code > table.last[length]) continue;
      const auto value = table.values[static_cast<size_t>(code + table.offset[length]) & 0xFF];
      table.fast[next] = static_cast<uint16_t>(length << 8 | value);
      break;
    }
  }
}

}  // namespace undershelf::content
