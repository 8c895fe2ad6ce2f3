#include "model/text.h"

#include <fmt/format.h>
#include <unicode/normalizer2.h>
#include <unicode/uchar.h>
#include <unicode/ucnv.h>
#include <unicode/unistr.h>
#include <unicode/utf16.h>
#include <unicode/utf8.h>

#include <algorithm>

#include "model/error.h"

namespace undershelf {
namespace {

constexpr UChar32 kReplacement = 0xFFFD;

// Calls `visit` with each code point; -1 for a malformed one.
template <typename Visit>
void each_code_point(std::string_view utf8, Visit visit) {
  const auto* bytes = reinterpret_cast<const uint8_t*>(utf8.data());
  const auto length = static_cast<int32_t>(utf8.size());
  for (int32_t i = 0; i < length;) {
    UChar32 c = 0;
    U8_NEXT(bytes, i, length, c);  // c < 0: malformed
    visit(c);
  }
}

}  // namespace

std::string bytes_of_utf16(std::u16string_view text) {
  std::string bytes;
  for (const char16_t unit : text) {
    bytes.push_back(static_cast<char>(unit & 0xFF));
    bytes.push_back(static_cast<char>(unit >> 8));
  }
  return bytes;
}

Name name_from_utf16(std::u16string_view stored) {
  Name name;
  // Most names: they are their own UTF-8 and their own normal form.
  if (std::ranges::all_of(stored, [](char16_t c) { return c > 0 && c < 0x80 && c != u'/'; })) {
    name.text.assign(stored.begin(), stored.end());
    return name;
  }
  icu::UnicodeString text;
  const auto length = static_cast<int32_t>(stored.size());
  for (int32_t i = 0; i < length;) {
    UChar32 c = 0;
    U16_NEXT(stored.data(), i, length, c);
    if (U_IS_SURROGATE(c) || c == 0 || c == u'/') {
      c = kReplacement;
      name.exact = false;
    }
    text.append(c);
  }
  UErrorCode status = U_ZERO_ERROR;
  const icu::Normalizer2* nfc = icu::Normalizer2::getNFCInstance(status);
  if (U_SUCCESS(status)) {
    icu::UnicodeString composed = nfc->normalize(text, status);
    if (U_SUCCESS(status)) text = std::move(composed);
  }
  const std::u16string_view shown(text.getBuffer(), static_cast<size_t>(text.length()));
  if (shown != stored) name.raw = bytes_of_utf16(stored);
  text.toUTF8String(name.text);
  return name;
}

CodePage::CodePage(const std::string& name) {
  UErrorCode status = U_ZERO_ERROR;
  converter_ = ucnv_open(name.c_str(), &status);
  if (U_FAILURE(status)) {
    throw Error(Failure::usage, fmt::format("There is no code page named {}. Examples: ibm-437 "
                                            "(the default), ibm-850, windows-932.",
                                            name));
  }
}

CodePage::~CodePage() { ucnv_close(static_cast<UConverter*>(converter_)); }

std::u16string CodePage::decode(std::string_view bytes) const {
  std::u16string out(bytes.size() * 2 + 1, u'\0');
  UErrorCode status = U_ZERO_ERROR;
  const int32_t length = ucnv_toUChars(static_cast<UConverter*>(converter_), out.data(),
                                       static_cast<int32_t>(out.size()), bytes.data(),
                                       static_cast<int32_t>(bytes.size()), &status);
  out.resize(U_SUCCESS(status) ? static_cast<size_t>(length) : 0);
  return out;
}

std::string to_utf8(std::u16string_view text) {
  std::string out;
  icu::UnicodeString(false, text.data(), static_cast<int32_t>(text.size())).toUTF8String(out);
  return out;
}

std::u16string to_utf16(std::string_view utf8) {
  const auto text = icu::UnicodeString::fromUTF8({utf8.data(), static_cast<int32_t>(utf8.size())});
  return {text.getBuffer(), static_cast<size_t>(text.length())};
}

std::string to_nfc(std::string_view utf8) {
  UErrorCode status = U_ZERO_ERROR;
  const icu::Normalizer2* nfc = icu::Normalizer2::getNFCInstance(status);
  const auto text = icu::UnicodeString::fromUTF8({utf8.data(), static_cast<int32_t>(utf8.size())});
  std::string out;
  if (U_SUCCESS(status)) nfc->normalize(text, status).toUTF8String(out);
  return U_SUCCESS(status) ? out : std::string(utf8);
}

std::u16string lower_case(std::u16string_view text) {
  std::u16string lower(text);
  for (char16_t& c : lower) {
    if (const UChar32 small = u_tolower(c); small <= 0xFFFF) c = static_cast<char16_t>(small);
  }
  return lower;
}

std::string fold_case(std::string_view utf8) {
  std::string out;
  icu::UnicodeString::fromUTF8({utf8.data(), static_cast<int32_t>(utf8.size())})
      .foldCase()
      .toUTF8String(out);
  return out;
}

std::string fold_for_search(std::string_view utf8) {
  std::string out(utf8);
  const auto is_ascii = [](char c) { return static_cast<unsigned char>(c) < 0x80; };
  if (std::ranges::all_of(out, is_ascii)) {
    for (char& c : out) c = c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c;
    return out;
  }
  UErrorCode status = U_ZERO_ERROR;
  auto text = icu::UnicodeString::fromUTF8({utf8.data(), static_cast<int32_t>(utf8.size())});
  const icu::Normalizer2* apart = icu::Normalizer2::getNFKDInstance(status);
  if (U_SUCCESS(status)) text = apart->normalize(text, status);
  if (U_FAILURE(status)) return fold_case(utf8);
  icu::UnicodeString plain;
  for (int32_t i = 0; i < text.length(); i = text.moveIndex32(i, 1)) {
    const UChar32 c = text.char32At(i);
    if (u_charType(c) != U_NON_SPACING_MARK) plain.append(c);
  }
  out.clear();
  plain.foldCase().toUTF8String(out);
  return out;
}

std::string to_hex(std::string_view bytes) {
  std::string out;
  out.reserve(bytes.size() * 2);
  for (const char byte : bytes) {
    fmt::format_to(std::back_inserter(out), "{:02x}", static_cast<uint8_t>(byte));
  }
  return out;
}

std::string_view cut_utf8(std::string_view utf8, size_t most) {
  if (utf8.size() <= most) return utf8;
  while (most > 0 && U8_IS_TRAIL(static_cast<uint8_t>(utf8[most]))) --most;
  return utf8.substr(0, most);
}

bool steers_a_terminal(char32_t c) {
  return c < 0x20 || (c >= 0x7F && c < 0xA0) || c == 0x061C || c == 0x200E || c == 0x200F ||
         (c >= 0x2028 && c <= 0x202E) || (c >= 0x2066 && c <= 0x2069) || c == 0xFEFF;
}

namespace {

void append_utf8(std::string& out, UChar32 c) {
  char bytes[U8_MAX_LENGTH];
  int32_t length = 0;
  U8_APPEND_UNSAFE(bytes, length, c);
  out.append(bytes, static_cast<size_t>(length));
}

bool is_plain_ascii(std::string_view text) {
  return std::ranges::all_of(text, [](char c) { return c >= 0x20 && c < 0x7F; });
}

}  // namespace

void escape_steering(std::string_view utf8, const char* pattern, std::string& out) {
  each_code_point(utf8, [&](UChar32 c) {
    if (c >= 0 && steers_a_terminal(static_cast<char32_t>(c))) {
      out += fmt::format(fmt::runtime(pattern), static_cast<uint32_t>(c));
    } else {
      append_utf8(out, c < 0 ? kReplacement : c);
    }
  });
}

std::string printable(std::string_view utf8) {
  if (is_plain_ascii(utf8)) return std::string(utf8);
  std::string out;
  each_code_point(utf8, [&](UChar32 c) {
    if (c >= 0 && steers_a_terminal(static_cast<char32_t>(c))) {
      const char* pattern = c < 0x100 ? "\\x{:02x}" : "\\u{:04x}";
      out += fmt::format(fmt::runtime(pattern), static_cast<uint32_t>(c));
    } else {
      append_utf8(out, c < 0 ? kReplacement : c);
    }
  });
  return out;
}

std::string without_controls(std::string_view utf8) {
  if (is_plain_ascii(utf8)) return std::string(utf8);
  std::string out;
  each_code_point(utf8, [&](UChar32 c) {
    append_utf8(out, c < 0 || steers_a_terminal(static_cast<char32_t>(c)) ? kReplacement : c);
  });
  return out;
}

size_t columns(std::string_view utf8) {
  if (is_plain_ascii(utf8)) return utf8.size();
  size_t total = 0;
  each_code_point(utf8, [&](UChar32 c) {
    const int width = u_getIntPropertyValue(c, UCHAR_EAST_ASIAN_WIDTH);
    const int8_t category = u_charType(c);
    if (category == U_NON_SPACING_MARK || category == U_ENCLOSING_MARK ||
        category == U_FORMAT_CHAR) {
      return;
    }
    total += width == U_EA_WIDE || width == U_EA_FULLWIDTH ? 2 : 1;
  });
  return total;
}

}  // namespace undershelf
