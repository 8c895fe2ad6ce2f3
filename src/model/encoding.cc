#include "model/encoding.h"

#include <unicode/ucnv.h>
#include <unicode/ucsdet.h>
#include <unicode/unistr.h>

#include <algorithm>
#include <memory>
#include <string_view>

#include "model/text.h"

namespace undershelf {
namespace {

// What ICU calls a fair guess; below it, text of a few words is taken for anything.
constexpr int32_t kSure = 10;
// Of UTF-16 and UTF-32 it is sure only by the mark at their beginning; without one most data would
// do.
constexpr int32_t kSureOfWide = 50;

bool is_likely(std::string_view encoding, int32_t confidence) {
  // EBCDIC, in which control characters of others are letters.
  if (encoding.starts_with("IBM4")) return false;
  const bool wide = encoding.starts_with("UTF-16") || encoding.starts_with("UTF-32");
  return confidence >= (wide ? kSureOfWide : kSure);
}

struct CloseDetector {
  void operator()(UCharsetDetector* detector) const { ucsdet_close(detector); }
};

bool is_control(char32_t c) { return (c < 32 && (c < 9 || c > 13)) || (c >= 127 && c < 160); }

// The rest is replaced, which text hardly needs; a character that is cut at either end may be.
bool reads_as_text(const icu::UnicodeString& text) {
  int32_t strange = 0;
  for (int32_t i = 0; i < text.length(); ++i) {
    const char16_t c = text.charAt(i);
    if (is_control(c)) return false;
    strange += c == 0xFFFD;
  }
  return strange <= 2;
}

std::optional<DecodedText> decode_as(std::string_view bytes, const char* encoding) {
  const icu::UnicodeString text(bytes.data(), static_cast<int32_t>(bytes.size()), encoding);
  if (text.isBogus() || !reads_as_text(text)) return std::nullopt;
  DecodedText decoded{{}, encoding};
  text.toUTF8String(decoded.utf8);
  if (decoded.utf8.starts_with("\xEF\xBB\xBF")) decoded.utf8.erase(0, 3);
  return decoded;
}

}  // namespace

std::optional<DecodedText> decode_text(std::span<const std::byte> data) {
  const std::string_view bytes(reinterpret_cast<const char*>(data.data()), data.size());
  if (auto utf8 = decode_as(bytes, "UTF-8")) return utf8;
  UErrorCode status = U_ZERO_ERROR;
  const std::unique_ptr<UCharsetDetector, CloseDetector> detector(ucsdet_open(&status));
  ucsdet_setText(detector.get(), bytes.data(), static_cast<int32_t>(bytes.size()), &status);
  int32_t count = 0;
  const UCharsetMatch** matches = ucsdet_detectAll(detector.get(), &count, &status);
  for (int32_t i = 0; U_SUCCESS(status) && i < count; ++i) {
    const char* const encoding = ucsdet_getName(matches[i], &status);
    if (!is_likely(encoding, ucsdet_getConfidence(matches[i], &status))) continue;
    if (auto text = decode_as(bytes, encoding)) return text;
  }
  return std::nullopt;
}

}  // namespace undershelf
