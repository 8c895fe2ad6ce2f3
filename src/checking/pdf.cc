// The streams of a PDF (ISO 32000-1, 7.3.8), one behind the other: those that are deflated must
// inflate, all must end where they say.
#include <zlib.h>

#include <array>
#include <cctype>
#include <charconv>
#include <string>
#include <vector>

#include "checking/decoders.h"
#include "checking/inflate.h"

namespace undershelf::checking {
namespace {

using content::Bytes;
using content::text_at;
using content::Walk;

constexpr size_t kPart = 64 << 10;
constexpr size_t kMostDictionary = 4096;  // bytes looked at in front of a stream

// The byte behind the word `stream` and its line end, of the next stream behind `at`.
std::optional<uint64_t> next_stream(Bytes& bytes, uint64_t at) {
  while (at < bytes.size()) {
    const std::string text = text_at(bytes, at, kPart);
    if (text.size() < 8) return std::nullopt;
    size_t found = text.find("stream");
    for (; found != std::string::npos; found = text.find("stream", found + 6)) {
      const bool end = found >= 3 && text.compare(found - 3, 3, "end") == 0;
      if (end || found + 8 > text.size()) continue;
      if (text[found + 6] == '\n') return at + found + 7;
      if (text[found + 6] == '\r' && text[found + 7] == '\n') return at + found + 8;
    }
    at += text.size() > 16 && at + text.size() < bytes.size() ? text.size() - 16 : text.size();
  }
  return std::nullopt;
}

struct Dictionary {
  bool deflated = false;           // by its first filter
  bool in_ascii = false;           // and in letters (ISO 32000-1, 7.4.3)
  std::optional<uint64_t> length;  // bytes, if it stands there itself
};

Dictionary dictionary_before(Bytes& bytes, uint64_t stream, uint64_t least) {
  const uint64_t from = std::max(least, stream - std::min<uint64_t>(stream, kMostDictionary));
  std::string text = text_at(bytes, from, static_cast<size_t>(stream - from));
  const size_t object = text.rfind(" obj");
  if (object != std::string::npos) text.erase(0, object);
  Dictionary found;
  const size_t filter = text.find("/Filter");
  if (filter != std::string::npos) {
    const size_t name = text.find_first_not_of(" [\r\n", filter + 7);
    found.deflated = name != std::string::npos && text.compare(name, 12, "/FlateDecode") == 0;
    if (name != std::string::npos && text.compare(name, 14, "/ASCII85Decode") == 0) {
      const size_t second = text.find_first_not_of(" \r\n", name + 14);
      found.in_ascii = second != std::string::npos && text.compare(second, 12, "/FlateDecode") == 0;
    }
  }
  const size_t length = text.find("/Length ");
  if (length != std::string::npos) {
    uint64_t value = 0;
    const char* begin = text.data() + length + 8;
    const auto [end, error] = std::from_chars(begin, text.data() + text.size(), value);
    const std::string_view rest(end, static_cast<size_t>(text.data() + text.size() - end));
    const bool reference = rest.starts_with(" 0 R");
    if (error == std::errc{} && !reference) found.length = value;
  }
  return found;
}

struct FromAscii {
  std::vector<std::byte> bytes;
  std::optional<uint64_t> fault;  // byte of the file at which no letter of the code stands
};

// ASCII base 85 (7.4.3): five letters for four bytes, `z` for four zeros, up to `~>`.
FromAscii from_ascii85(Bytes& bytes, uint64_t from, uint64_t length) {
  FromAscii out;
  std::array<uint32_t, 5> group{};
  size_t letters = 0;
  const auto flush = [&](size_t count) {
    uint64_t value = 0;
    for (const uint32_t letter : group) value = value * 85 + letter;
    for (size_t i = 0; i < count; ++i) {
      out.bytes.push_back(static_cast<std::byte>(value >> (24 - 8 * i) & 0xFF));
    }
    letters = 0;
  };
  for (uint64_t at = from; at < from + length;) {
    const auto part = bytes.at(at, std::min<uint64_t>(kPart, from + length - at));
    if (part.empty()) break;
    for (size_t i = 0; i < part.size(); ++i) {
      const auto c = std::to_integer<unsigned char>(part[i]);
      if (c == '~') {
        const size_t left = letters;
        while (left > 0 && letters < 5) group[letters++] = 84;
        if (left > 1) flush(left - 1);
        return out;
      }
      if (c == 'z' && letters == 0) {
        group.fill(0);
        flush(4);
      } else if (c >= '!' && c <= 'u') {
        group[letters++] = c - '!';
        if (letters == 5) flush(4);
      } else if (std::isspace(c) == 0) {
        out.fault = at + i;
        return out;
      }
    }
    at += part.size();
  }
  return out;
}

// Where a stream of deflated bytes in letters does not unpack; nothing if it does.
std::optional<uint64_t> fault_in_ascii(Bytes& bytes, uint64_t from, uint64_t length) {
  constexpr uint64_t kMost = 64 << 20;
  if (length > kMost) return std::nullopt;
  const FromAscii stored = from_ascii85(bytes, from, length);
  content::MemoryBytes packed(stored.bytes);
  const Inflated done = inflate_from(packed, 0, stored.bytes.size(), MAX_WBITS, UINT64_MAX);
  if (done.whole) return std::nullopt;
  const uint64_t reached = from + done.end / 4 * 5;
  return std::min(stored.fault.value_or(reached), reached);
}

}  // namespace

Walk decode_pdf(Bytes& bytes, const Walk& structure) {
  const uint64_t end = structure.end.value_or(bytes.size());
  // What is encrypted inflates only with its key.
  for (uint64_t at = 0; at < end; at += kPart - 16) {
    if (text_at(bytes, at, kPart).find("/Encrypt") != std::string::npos) return structure;
  }
  uint64_t at = 0;
  while (const auto stream = next_stream(bytes, at)) {
    if (*stream >= end) break;
    const Dictionary dictionary = dictionary_before(bytes, *stream, at);
    at = *stream;
    if (dictionary.length) {
      if (*dictionary.length > end - at)
        return content::broken(at, "A stream reaches behind the end.");
      const uint64_t behind = at + *dictionary.length;
      if (text_at(bytes, behind, 32).find("endstream") == std::string::npos) {
        return content::broken(at, "A stream does not end where it says.");
      }
      if (dictionary.deflated) {
        const Inflated done = inflate_from(bytes, at, *dictionary.length, MAX_WBITS, UINT64_MAX);
        if (!done.whole) return content::broken(done.end, "A stream does not unpack.");
      }
      if (dictionary.in_ascii) {
        const auto fault = fault_in_ascii(bytes, at, *dictionary.length);
        if (fault) return content::broken(*fault, "A stream does not unpack.");
      }
      at = behind;
    }
  }
  return structure;
}

}  // namespace undershelf::checking
