#include "content/mail_words.h"

#include <algorithm>
#include <array>
#include <cctype>
#include <cstdint>
#include <cstdio>
#include <ctime>
#include <optional>
#include <utility>

#include "content/describe.h"

namespace undershelf::content {
namespace {

bool same_letters(std::string_view a, std::string_view b) {
  return std::ranges::equal(
      a, b, [](unsigned char x, unsigned char y) { return std::tolower(x) == std::tolower(y); });
}

int digit(char c) {
  if (c >= '0' && c <= '9') return c - '0';
  const int low = std::tolower(static_cast<unsigned char>(c));
  return low >= 'a' && low <= 'f' ? low - 'a' + 10 : -1;
}

// RFC 2047, 4.2.
std::string from_q(std::string_view text) {
  std::string out;
  for (size_t i = 0; i < text.size(); ++i) {
    if (text[i] == '=' && i + 2 < text.size() && digit(text[i + 1]) >= 0 &&
        digit(text[i + 2]) >= 0) {
      out += static_cast<char>(digit(text[i + 1]) * 16 + digit(text[i + 2]));
      i += 2;
    } else {
      out += text[i] == '_' ? ' ' : text[i];
    }
  }
  return out;
}

// RFC 4648, 4; ends where something else stands.
std::string from_base64(std::string_view text) {
  constexpr std::string_view kLetters =
      "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
  std::string out;
  unsigned bits = 0;
  int count = 0;
  for (const char c : text) {
    const size_t value = kLetters.find(c);
    if (value == std::string_view::npos) break;
    bits = (bits << 6 | static_cast<unsigned>(value)) & 0xFFFFFF;
    count += 6;
    if (count >= 8) out += static_cast<char>(bits >> (count -= 8) & 0xFF);
  }
  return out;
}

// An encoded word, `=?charset?B or Q?text?=`.
struct Word {
  std::string charset, bytes;
  size_t length;  // as it is written
};

std::optional<Word> word_at(std::string_view text) {
  constexpr size_t kMostWord = 1024;  // bytes; the standard says 75
  text = text.substr(0, kMostWord);
  if (!text.starts_with("=?")) return std::nullopt;
  const size_t first = text.find('?', 2);
  if (first == std::string_view::npos || first + 2 >= text.size() || text[first + 2] != '?') {
    return std::nullopt;
  }
  const size_t end = text.find("?=", first + 3);
  if (end == std::string_view::npos) return std::nullopt;
  std::string charset(text.substr(2, first - 2));
  charset.resize(std::min(charset.find('*'), charset.size()));  // a language (RFC 2231, 5)
  const bool is_name = !charset.empty() && std::ranges::all_of(charset, [](unsigned char c) {
    return std::isalnum(c) != 0 || c == '-' || c == '_' || c == '.' || c == ':';
  });
  if (!is_name) return std::nullopt;
  const std::string_view inner = text.substr(first + 3, end - first - 3);
  const char kind = static_cast<char>(std::tolower(static_cast<unsigned char>(text[first + 1])));
  if (kind != 'q' && kind != 'b') return std::nullopt;
  return Word{std::move(charset), kind == 'q' ? from_q(inner) : from_base64(inner), end + 2};
}

// The text of a field with its encoded words decoded.
std::string decoded(std::string_view text) {
  std::string out;
  std::string charset, encoded;  // of words side by side: a character may go on in the next one
  std::string plain;             // what followed them
  bool after_word = false;       // but for blanks
  const auto flush = [&] {
    if (!encoded.empty()) out += from_charset(charset, encoded);
    out += from_any(plain);
    encoded.clear();
    plain.clear();
  };
  for (size_t at = 0; at < text.size();) {
    const auto word = word_at(text.substr(at));
    if (!word) {
      after_word = after_word && (text[at] == ' ' || text[at] == '\t');
      plain += text[at++];
      continue;
    }
    if (after_word) plain.clear();  // blanks between words are no part of the text (6.2)
    if (!after_word || !same_letters(word->charset, charset)) flush();
    charset = word->charset;
    encoded += word->bytes;
    after_word = true;
    at += word->length;
  }
  flush();
  return out;
}

}  // namespace

std::string mail_field(std::string_view message, std::string_view name) {
  for (size_t at = 0; at < message.size();) {
    const size_t end = std::min(message.find('\n', at), message.size());
    const std::string_view line = message.substr(at, end - at);
    if (line.empty() || line == "\r") break;  // the head has ended
    at = end + 1;
    const bool named = line.size() > name.size() && line[name.size()] == ':' &&
                       same_letters(line.substr(0, name.size()), name);
    if (!named) continue;
    std::string field(line.substr(name.size() + 1));
    // Lines that begin with a blank go on with it.
    while (at < message.size() && (message[at] == ' ' || message[at] == '\t')) {
      const size_t behind = std::min(message.find('\n', at), message.size());
      if (field.ends_with('\r')) field.pop_back();
      field += message.substr(at, behind - at);
      at = behind + 1;
    }
    const size_t from = field.find_first_not_of(" \t\r");
    if (from == std::string::npos) return {};
    return decoded(
        std::string_view(field).substr(from, field.find_last_not_of(" \t\r") + 1 - from));
  }
  return {};
}

std::string mail_boundary(std::string_view message) {
  std::string type = mail_field(message, "content-type");
  for (char& c : type) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  constexpr std::string_view kKey = "boundary=";
  const size_t key = type.find(kKey);
  if (!type.starts_with("multipart/") || key == std::string::npos) return {};
  const size_t from = key + kKey.size();
  const bool is_quoted = from < type.size() && type[from] == '"';
  const size_t begin = from + (is_quoted ? 1 : 0);
  return type.substr(begin, type.find_first_of(is_quoted ? "\"" : "; \t", begin) - begin);
}

std::string date_of_mail(const std::string& field) {
  constexpr std::string_view kMonths = "jan feb mar apr may jun jul aug sep oct nov dec";
  const size_t comma = field.find(',');
  const char* date = field.c_str() + (comma == std::string::npos ? 0 : comma + 1);
  std::tm time{};
  std::array<char, 4> month{};
  int zone = 0;
  const int got =
      std::sscanf(date, " %2d %3[A-Za-z] %4d %2d:%2d:%2d %5d", &time.tm_mday, month.data(),
                  &time.tm_year, &time.tm_hour, &time.tm_min, &time.tm_sec, &zone);
  std::string name(month.data());
  for (char& c : name) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  const size_t at = kMonths.find(name);
  if (got < 6 || name.size() != 3 || at == std::string_view::npos || at % 4 != 0) return {};
  time.tm_mon = static_cast<int>(at / 4);
  time.tm_year -= 1900;
  const int64_t ahead = (zone / 100 * 60 + zone % 100) * 60;  // seconds of its zone before UTC
  return date_of(int64_t{::timegm(&time)} - ahead);
}

}  // namespace undershelf::content
