// Text whose encoding nothing tells but itself. By ICU.
#pragma once

#include <cstddef>
#include <optional>
#include <span>
#include <string>

namespace undershelf {

struct DecodedText {
  std::string utf8;      // may hold what steers a terminal
  std::string encoding;  // its IANA name: UTF-8, UTF-16LE, windows-1252
};

// Nothing if the bytes do not read as text: then they hold control characters, or no encoding fits.
// The first and last character may be cut.
std::optional<DecodedText> decode_text(std::span<const std::byte> bytes);

}  // namespace undershelf
