// What a PDF says of itself: strings of its information dictionary (ISO 32000-1, 14.3.3).
#include <algorithm>
#include <string>

#include "content/families.h"
#include "content/pdf.h"

namespace undershelf::content {
namespace {

// The value of `key`, a string in brackets (7.3.4.2).
std::string string_behind(const std::string& text, std::string_view key) {
  size_t at = text.find(key);
  if (at == std::string::npos) return {};
  at = text.find_first_not_of(" \r\n", at + key.size());
  if (at == std::string::npos || text[at] != '(') return {};
  std::string value;
  int depth = 0;
  for (; at < text.size() && value.size() < 512; ++at) {
    const char c = text[at];
    if (c == '\\' && at + 1 < text.size()) {
      const char next = text[++at];
      if (next >= '0' && next <= '7') {
        unsigned code = 0;
        for (int i = 0; i < 3 && at < text.size() && text[at] >= '0' && text[at] <= '7'; ++i) {
          code = code * 8 + static_cast<unsigned>(text[at++] - '0');
        }
        --at;
        value += static_cast<char>(code);
      } else {
        value += next;
      }
    } else if (c == '(' && depth++ == 0) {
      continue;
    } else if (c == ')' && --depth == 0) {
      return from_any(value);
    } else {
      value += c;
    }
  }
  return {};
}

}  // namespace

void describe_pdf(Bytes& bytes, std::string_view, Description& found) {
  constexpr uint64_t kLook = 64 << 10;
  const std::string head = text_at(bytes, 0, kLook);
  const uint64_t tail = bytes.size() - std::min(bytes.size(), kLook);
  for (const std::string& text : {text_at(bytes, tail, kLook), head}) {
    if (text.find("/Encrypt") != std::string::npos) return;  // so are all its strings
    found.title.put(string_behind(text, "/Title"));
    found.author.put(string_behind(text, "/Author"));
    const std::string made = string_behind(text, "/CreationDate");
    if (made.starts_with("D:")) found.made.put(date_in(made.substr(2)));
  }
}

}  // namespace undershelf::content
