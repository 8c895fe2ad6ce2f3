// Decoders: what only decoding tells. They are libraries, and run in a box (checking/box.h).
#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>
#include <string_view>

#include "content/walk.h"

namespace undershelf::checking {

// Looks at a file whose structure holds, or tells nothing. Gives what it found in its turn:
// `broken` with where, `verified`, or the walk as it was if it has nothing to add.
using Decoder = content::Walk (*)(content::Bytes& bytes, const content::Walk& structure);

// The decoder for a format (content/walk.h); null if there is none.
Decoder decoder_for(std::string_view format);

// Byte behind the last of what is packed there, where only unpacking tells it; of what does not
// unpack to an end, behind what does.
struct Decoded {
  uint64_t end = 0;
  bool whole = false;
};
std::optional<Decoded> end_by_decoding(content::Bytes& bytes, std::string_view format);

// What formats say of themselves in packed parts, besides what Family::describe tells.
void describe_packed(content::Bytes& bytes, std::string_view format, content::Description& found);

// Fills `out` with the bytes from `at` on. Returns how many there are before a hole or the end.
size_t read_into(content::Bytes& bytes, uint64_t at, std::span<std::byte> out);

content::Walk decode_jpeg(content::Bytes& bytes, const content::Walk& structure);
content::Walk decode_zip(content::Bytes& bytes, const content::Walk& structure);
content::Walk decode_gzip(content::Bytes& bytes, const content::Walk& structure);
content::Walk decode_archive(content::Bytes& bytes, const content::Walk& structure);
content::Walk decode_pdf(content::Bytes& bytes, const content::Walk& structure);
content::Walk decode_sqlite(content::Bytes& bytes, const content::Walk& structure);
content::Walk decode_gif(content::Bytes& bytes, const content::Walk& structure);
content::Walk decode_tiff(content::Bytes& bytes, const content::Walk& structure);
content::Walk decode_webp(content::Bytes& bytes, const content::Walk& structure);
content::Walk decode_json(content::Bytes& bytes, const content::Walk& structure);

}  // namespace undershelf::checking
