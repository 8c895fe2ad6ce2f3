#include "content/describe.h"

#include <algorithm>
#include <cctype>
#include <cstdio>
#include <ctime>

#include "model/error.h"
#include "model/text.h"

namespace undershelf::content {

template <size_t most>
void ShortText<most>::put(std::string_view utf8) {
  if (length_ > 0) return;
  const size_t end = utf8.find('\0');
  utf8 = utf8.substr(0, std::min(end, utf8.size()));
  const auto is_blank = [](char c) { return std::isspace(static_cast<unsigned char>(c)) != 0; };
  while (!utf8.empty() && is_blank(utf8.front())) utf8.remove_prefix(1);
  while (!utf8.empty() && is_blank(utf8.back())) utf8.remove_suffix(1);
  utf8 = cut_utf8(utf8, most);
  std::ranges::copy(utf8, text_.begin());
  length_ = static_cast<uint16_t>(utf8.size());
}
template class ShortText<24>;
template class ShortText<96>;

void Description::put_size(uint64_t wide, uint64_t high) {
  constexpr uint64_t kMost = 1 << 20;
  if (width != 0 || wide == 0 || high == 0 || wide > kMost || high > kMost) return;
  width = static_cast<uint32_t>(wide);
  height = static_cast<uint32_t>(high);
}

std::string from_latin1(std::string_view text) {
  std::u16string wide;
  for (const char c : text) wide += static_cast<char16_t>(static_cast<unsigned char>(c));
  return to_utf8(wide);
}

std::string from_utf16(std::string_view text, bool big_endian) {
  std::u16string wide;
  for (size_t i = 0; i + 1 < text.size(); i += 2) {
    const auto a = static_cast<unsigned char>(text[i]), b = static_cast<unsigned char>(text[i + 1]);
    const auto unit = static_cast<char16_t>(big_endian ? a << 8 | b : b << 8 | a);
    if (unit == 0) break;
    if (unit != 0xFEFF) wide += unit;
  }
  return to_utf8(wide);
}

std::string from_any(std::string_view text) {
  if (text.starts_with("\xFE\xFF")) return from_utf16(text.substr(2), true);
  if (text.starts_with("\xFF\xFE")) return from_utf16(text.substr(2), false);
  if (text.starts_with("\xEF\xBB\xBF")) text.remove_prefix(3);
  std::string again = to_utf8(to_utf16(text));
  return again == text ? again : from_latin1(text);
}

std::string from_charset(const std::string& name, std::string_view text) {
  try {
    return to_utf8(CodePage(name).decode(text));
  } catch (const Error&) {
    return from_any(text);
  }
}

std::string text_at(Bytes& bytes, uint64_t at, uint64_t length) {
  const auto part = bytes.at(at, static_cast<size_t>(std::min<uint64_t>(length, 1 << 20)));
  return {reinterpret_cast<const char*>(part.data()), part.size()};
}

std::string date_in(std::string_view text) {
  std::string digits;
  for (const char c : text) {
    if (std::isdigit(static_cast<unsigned char>(c)) != 0) {
      digits += c;
    } else if (c != ':' && c != '-' && c != ' ' && c != 'T' && c != '/') {
      break;
    }
  }
  if (digits.size() < 8) return {};
  const auto part = [&](size_t at, size_t length) { return digits.substr(at, length); };
  const auto within = [](const std::string& number, int least, int most) {
    const int value = std::stoi(number);
    return value >= least && value <= most;
  };
  if (!within(part(0, 4), 1980, 2200) || !within(part(4, 2), 1, 12) || !within(part(6, 2), 1, 31)) {
    return {};
  }
  std::string date = part(0, 4) + "-" + part(4, 2) + "-" + part(6, 2);
  if (digits.size() < 14 || !within(part(8, 2), 0, 23) || !within(part(10, 2), 0, 59)) return date;
  date += " " + part(8, 2) + ":" + part(10, 2) + ":" + part(12, 2);
  return text.ends_with('Z') ? date + " UTC" : date;
}

std::string date_of(int64_t seconds) {
  constexpr int64_t kFrom = 315'532'800, kTo = 7'258'118'400;
  if (seconds < kFrom || seconds >= kTo) return {};
  const auto time = static_cast<std::time_t>(seconds);
  std::tm parts{};
  ::gmtime_r(&time, &parts);
  std::array<char, 40> text{};
  const size_t length = std::strftime(text.data(), text.size(), "%Y-%m-%d %H:%M:%S UTC", &parts);
  return {text.data(), length};
}

namespace {

// TIFF 6.0, section 2; CIPA DC-008 (EXIF), 4.6.
class Directory {
 public:
  Directory(Bytes& bytes, uint64_t base)
      : bytes_(bytes), base_(base), little_(bytes.u8(base) == 'I') {}

  void describe(Description& found) {
    read(u32(4), found, 0);
    if (maker_.empty() || model_.starts_with(maker_)) {
      found.device.put(model_);
    } else {
      found.device.put(maker_ + " " + model_);
    }
    found.put_size(exif_width_, exif_height_);
    found.put_size(width_, height_);
    found.made.put(taken_.empty() ? changed_ : taken_);
  }

 private:
  uint16_t u16(uint64_t at) { return little_ ? bytes_.le16(base_ + at) : bytes_.be16(base_ + at); }
  uint32_t u32(uint64_t at) { return little_ ? bytes_.le32(base_ + at) : bytes_.be32(base_ + at); }

  std::string text(uint64_t field) {
    constexpr uint64_t kMost = 256;
    const uint64_t count = u32(field + 4);
    const uint64_t at = count <= 4 ? field + 8 : u32(field + 8);
    std::string value = text_at(bytes_, base_ + at, std::min(count, kMost));
    value.resize(std::min(value.find('\0'), value.size()));
    value.erase(value.find_last_not_of(' ') + 1);
    return from_any(value);
  }
  uint64_t number(uint64_t field) { return u16(field + 2) == 3 ? u16(field + 8) : u32(field + 8); }

  void read(uint64_t at, Description& found, int depth) {
    const uint16_t count = std::min<uint16_t>(u16(at), 512);
    for (uint16_t i = 0; i < count; ++i) {
      const uint64_t field = at + 2 + uint64_t{i} * 12;
      switch (u16(field)) {
        case 256:
          width_ = number(field);
          break;
        case 257:
          height_ = number(field);
          break;
        case 270:
          found.title.put(text(field));
          break;
        case 271:
          maker_ = text(field);
          break;
        case 272:
          model_ = text(field);
          break;
        case 306:
          changed_ = date_in(text(field));
          break;
        case 315:
          found.author.put(text(field));
          break;
        case 36867:
          taken_ = date_in(text(field));
          break;
        case 40962:
          exif_width_ = number(field);
          break;
        case 40963:
          exif_height_ = number(field);
          break;
        case 34665:
          if (depth == 0) read(u32(field + 8), found, 1);
          break;
        default:
          break;
      }
    }
  }

  Bytes& bytes_;
  const uint64_t base_;
  const bool little_;
  std::string maker_, model_, taken_, changed_;
  uint64_t width_ = 0, height_ = 0, exif_width_ = 0, exif_height_ = 0;
};

bool has_key(std::string_view comment, std::string_view key) {
  if (comment.size() <= key.size() || comment[key.size()] != '=') return false;
  return std::equal(key.begin(), key.end(), comment.begin(), [](char a, char b) {
    return a == std::toupper(static_cast<unsigned char>(b));
  });
}

}  // namespace

void describe_exif(Bytes& bytes, uint64_t base, Description& found) {
  Directory(bytes, base).describe(found);
}

void describe_vorbis(Bytes& bytes, uint64_t at, Description& found) {
  constexpr uint32_t kMostComments = 256;
  constexpr uint64_t kMost = 512;
  at += 4 + uint64_t{bytes.le32(at)};
  const uint32_t count = std::min(bytes.le32(at), kMostComments);
  at += 4;
  for (uint32_t i = 0; i < count && at < bytes.size(); ++i) {
    const uint64_t length = bytes.le32(at);
    const std::string comment = text_at(bytes, at + 4, std::min(length, kMost));
    if (has_key(comment, "TITLE")) found.title.put(comment.substr(6));
    if (has_key(comment, "ARTIST")) found.author.put(comment.substr(7));
    if (has_key(comment, "DATE")) found.made.put(date_in(comment.substr(5)));
    at += 4 + length;
  }
}

}  // namespace undershelf::content
