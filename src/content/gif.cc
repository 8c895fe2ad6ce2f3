// GIF: version 89a, appendix A: blocks of sub-blocks up to the trailer.
#include "content/families.h"

namespace undershelf::content {
namespace {

std::string_view recognise(Bytes& bytes) {
  return bytes.has(0, "GIF87a") || bytes.has(0, "GIF89a") ? "gif" : "";
}

// Behind the colour table that `flags` tell of.
uint64_t table(uint8_t flags) { return (flags & 0x80) != 0 ? uint64_t{6} << (flags & 7) : 0; }

// Behind the sub-blocks that begin at `at`; nothing if they end before.
std::optional<uint64_t> skip_blocks(Bytes& bytes, uint64_t at) {
  for (;;) {
    if (bytes.at(at, 1).empty()) return std::nullopt;
    const uint8_t length = bytes.u8(at);
    at += 1 + uint64_t{length};
    if (length == 0) return at;
  }
}

Walk walk(Bytes& bytes, std::string_view) {
  uint64_t at = 13 + table(bytes.u8(10));
  for (;;) {
    const uint64_t begin = at;
    if (bytes.at(at, 1).empty()) return broken(std::min(at, bytes.size()), "It has no end mark.");
    const uint8_t kind = bytes.u8(at);
    if (kind == 0x3B) return ended(Level::consistent, at + 1);
    if (kind == 0x21) {
      at += 2;
    } else if (kind == 0x2C) {
      at += 10 + table(bytes.u8(at + 9)) + 1;  // descriptor, table, code size
      const uint8_t code = bytes.u8(at - 1);
      if (code < 2 || code > 8) return broken(begin, "A picture has an impossible code size.");
    } else {
      return broken(at, "No block begins where one must.");
    }
    const auto next = skip_blocks(bytes, at);
    if (!next) return broken(begin, "It ends inside a block.");
    at = *next;
  }
}

void describe(Bytes& bytes, std::string_view, Description& found) {
  found.put_size(bytes.le16(6), bytes.le16(8));
}

}  // namespace

const Family kGif{.recognise = recognise, .walk = walk, .describe = describe};

}  // namespace undershelf::content
