#include "shelf/glob.h"

#include <unicode/unistr.h>

#include <vector>

#include "model/text.h"

namespace undershelf {
namespace {

// Values behind all of Unicode.
constexpr char32_t kStar = 0x110000;
constexpr char32_t kStars = 0x110001;
constexpr char32_t kOne = 0x110002;

std::u32string to_utf32(std::string_view utf8) {
  const auto text = icu::UnicodeString::fromUTF8({utf8.data(), static_cast<int32_t>(utf8.size())});
  std::u32string out;
  for (int32_t i = 0; i < text.length(); i = text.moveIndex32(i, 1)) {
    out.push_back(static_cast<char32_t>(text.char32At(i)));
  }
  return out;
}

}  // namespace

Glob::Glob(const std::string& pattern, bool match_case) : match_case_(match_case) {
  const std::string composed = to_nfc(pattern);
  const std::u32string text = to_utf32(match_case ? composed : fold_case(composed));
  for (size_t i = 0; i < text.size(); ++i) {
    if (text[i] == U'*' && i + 1 < text.size() && text[i + 1] == U'*') {
      pattern_.push_back(kStars);
      while (i + 1 < text.size() && text[i + 1] == U'*') ++i;
    } else {
      pattern_.push_back(text[i] == U'*' ? kStar : text[i] == U'?' ? kOne : text[i]);
    }
  }
}

bool Glob::matches(std::string_view utf8) const {
  const std::u32string text = to_utf32(match_case_ ? std::string(utf8) : fold_case(utf8));
  // reached[i]: the pattern so far matches the first i characters.
  std::vector<char> reached(text.size() + 1, 0);
  reached[0] = 1;
  for (const char32_t p : pattern_) {
    if (p == kStar || p == kStars) {
      for (size_t i = 0; i < text.size(); ++i) {
        if (reached[i] != 0 && (p == kStars || text[i] != U'/')) reached[i + 1] = 1;
      }
    } else {
      for (size_t i = text.size(); i > 0; --i) {
        const bool fits = p == kOne ? text[i - 1] != U'/' : text[i - 1] == p;
        reached[i] = static_cast<char>(reached[i - 1] != 0 && fits);
      }
      reached[0] = 0;
    }
  }
  return reached[text.size()] != 0;
}

}  // namespace undershelf
