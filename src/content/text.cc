// Text and its kin: where it stops being text of its encoding, and whether what opens is closed.
#include <algorithm>
#include <array>
#include <cctype>
#include <string>

#include "content/families.h"
#include "content/mail_words.h"
#include "model/blank.h"

namespace undershelf::content {
namespace {

constexpr size_t kLook = 4096;                          // for what kind of text it is
constexpr std::string_view kEndOfPostScript = "%%eof";  // in any case of letters (DSC 3.0, 4.6)
constexpr size_t kLeast = 512;                          // that must be text

bool is_control(uint8_t c) {
  return c < 0x20 && c != '\t' && c != '\n' && c != '\r' && c != '\f' && c != 0x1B && c != 0x1A;
}

// Bytes of the UTF-8 character that begins at `i` (Unicode, table 3-7); 0 if none does. One that is
// cut at the end counts as what is there.
size_t character(std::span<const std::byte> text, size_t i) {
  const auto byte = [&](size_t at) { return std::to_integer<uint8_t>(text[at]); };
  const uint8_t lead = byte(i);
  if (lead < 0x80) return 1;
  const size_t length = lead >= 0xF0 ? 4 : lead >= 0xE0 ? 3 : 2;
  if (lead < 0xC2 || lead > 0xF4) return 0;
  for (size_t n = 1; n < length && i + n < text.size(); ++n) {
    if ((byte(i + n) & 0xC0) != 0x80) return 0;
    const uint8_t second = byte(i + 1);
    if ((lead == 0xE0 && second < 0xA0) || (lead == 0xED && second > 0x9F) ||
        (lead == 0xF0 && second < 0x90) || (lead == 0xF4 && second > 0x8F)) {
      return 0;
    }
  }
  return std::min(length, text.size() - i);
}

enum class Encoding { none, utf8, other, utf16 };

Encoding encoding_of(std::span<const std::byte> head) {
  if (head.size() >= 2) {
    const auto first = std::to_integer<unsigned>(head[0]),
               second = std::to_integer<unsigned>(head[1]);
    if ((first == 0xFF && second == 0xFE) || (first == 0xFE && second == 0xFF))
      return Encoding::utf16;
  }
  bool utf8 = true;
  size_t high = 0;
  for (size_t i = 0; i < head.size();) {
    const auto byte = std::to_integer<uint8_t>(head[i]);
    if (is_control(byte)) return Encoding::none;
    const size_t length = utf8 ? character(head, i) : 1;
    utf8 = utf8 && length > 0;
    high += byte >= 0x80;
    i += std::max<size_t>(length, 1);
  }
  if (head.size() < 4 || (!utf8 && high > head.size() / 3)) return Encoding::none;
  return utf8 ? Encoding::utf8 : Encoding::other;
}

std::string beginning(std::span<const std::byte> head) {
  std::string text(reinterpret_cast<const char*>(head.data()), head.size());
  if (text.starts_with("\xEF\xBB\xBF")) text.erase(0, 3);
  text.erase(0, std::min(text.find_first_not_of(" \t\r\n"), text.size()));
  return text;
}

std::string lower(std::string text) {
  for (char& c : text) c = static_cast<char>(c >= 'A' && c <= 'Z' ? c + 32 : c);  // ASCII alone
  return text;
}

bool is_mail(const std::string& text) {
  const size_t end = std::min(text.find('\n'), text.size());
  constexpr std::array<std::string_view, 12> kFields = {
      "return-path:", "received:",     "from:", "date:",           "mime-version:", "message-id:",
      "subject:",     "delivered-to:", "x-",    "dkim-signature:", "to:",           "arc-"};
  const std::string line = lower(text.substr(0, end));
  const bool field = std::ranges::any_of(kFields, [&](auto f) { return line.starts_with(f); });
  if (!field || line.find(':') == std::string::npos) return false;
  const std::string all = lower(text);
  return (all.find("\nsubject:") != std::string::npos ||
          all.find("\nmime-version:") != std::string::npos ||
          all.find("\nmessage-id:") != std::string::npos);
}

std::string_view recognise(Bytes& bytes) {
  const Encoding encoding = encoding_of(bytes.at(0, kLeast));
  if (encoding == Encoding::none) return {};
  const auto head = bytes.at(0, kLook);
  if (encoding == Encoding::utf16) return "text";
  const std::string text = beginning(head);
  if (text.starts_with("{\\rtf")) return "rtf";
  const std::string first = lower(text.substr(0, 16));
  if (first.starts_with("<!doctype html") || first.starts_with("<html")) return "html";
  if (text.starts_with("<?xml") || text.starts_with("<svg")) {
    if (lower(text).find("<html") != std::string::npos) return "html";
    return text.find("<svg") != std::string::npos ? "svg" : "xml";
  }
  if (text.starts_with("BEGIN:VCARD")) return "vcard";
  if (text.starts_with("BEGIN:VCALENDAR")) return "icalendar";
  if (text.starts_with("%!PS")) return "postscript";
  if (text.starts_with("From ") && lower(text).find("\nfrom:") != std::string::npos) {
    return "mbox";
  }
  if (is_mail(text)) return "eml";
  if (text.starts_with("{") || text.starts_with("[")) {
    const size_t next = text.find_first_not_of(" \t\r\n", 1);
    const char c = next == std::string::npos ? ' ' : text[next];
    if (c == '"' || c == '{' || c == '[' || c == '}' || c == ']' || std::isdigit(c) != 0)
      return "json";
  }
  return "text";
}

// Where it stops being text; its size if nowhere.
uint64_t text_to(Bytes& bytes) {
  const Encoding encoding = encoding_of(bytes.at(0, kLeast));
  if (encoding == Encoding::utf16) return bytes.size();
  bool high = false;  // characters of more than a byte were met: it is UTF-8 for certain
  uint64_t at = 0;
  while (at < bytes.size()) {
    const auto part = bytes.at(at, Bytes::kMostAtOnce);
    if (part.empty()) return at;
    const bool last = at + part.size() == bytes.size();
    size_t i = 0;
    while (i < part.size()) {
      const auto byte = std::to_integer<uint8_t>(part[i]);
      if (is_control(byte)) return at + i;
      if (byte < 0x80 || encoding == Encoding::other) {
        ++i;
        continue;
      }
      if (!last && part.size() - i < 4) break;
      const size_t length = character(part, i);
      if (length == 0 && high) return at + i;
      high = high || length > 0;
      i += std::max<size_t>(length, 1);
    }
    if (i == 0) return at;
    at += i;
  }
  return at;
}

// Follows brackets: where the outermost closes before the text ends. Strings count as JSON has
// them, or not at all.
std::optional<uint64_t> closes_at(Bytes& bytes, uint64_t text_end, std::string_view open,
                                  std::string_view close, bool strings) {
  int64_t depth = 0;
  bool quoted = false, escaped = false;
  for (uint64_t at = 0; at < text_end;) {
    const auto part = bytes.at(at, std::min<uint64_t>(Bytes::kMostAtOnce, text_end - at));
    if (part.empty()) break;
    for (size_t i = 0; i < part.size(); ++i) {
      const char c = static_cast<char>(part[i]);
      if (escaped) {
        escaped = false;
      } else if (c == '\\') {
        escaped = true;
      } else if (strings && c == '"') {
        quoted = !quoted;
      } else if (!quoted && open.find(c) != std::string_view::npos) {
        ++depth;
      } else if (!quoted && close.find(c) != std::string_view::npos && --depth == 0) {
        return at + i + 1;
      }
    }
    at += part.size();
  }
  return std::nullopt;
}

// The last `length` bytes without the blanks behind them.
std::string ending(Bytes& bytes, uint64_t length) {
  const uint64_t from = bytes.size() - std::min(bytes.size(), length);
  const auto part = bytes.at(from, length);
  std::string text(reinterpret_cast<const char*>(part.data()), part.size());
  text.erase(text.find_last_not_of(" \t\r\n\x1A") + 1);
  return text;
}

Walk closed(bool is, uint64_t size) {
  return is ? ended(Level::consistent, size) : broken(size, "It ends before it is closed.");
}

// The end tag of the outermost element of markup; empty if none begins.
std::string end_tag(Bytes& bytes) {
  constexpr size_t kHead = 64 << 10;  // bytes: what licences and the like take in front of it
  const std::string text = beginning(bytes.at(0, kHead));
  for (size_t at = text.find('<'); at != std::string::npos; at = text.find('<', at + 1)) {
    if (text.compare(at, 4, "<!--") == 0) {
      at = text.find("-->", at);
      if (at == std::string::npos) break;
    } else if (at + 1 < text.size() && text[at + 1] != '?' && text[at + 1] != '!') {
      const size_t end = text.find_first_of(" \t\r\n/>", at + 1);
      if (end == std::string::npos) break;
      return "</" + text.substr(at + 1, end - at - 1) + ">";
    }
  }
  return {};
}

// Whether the outermost element is closed at the end.
bool is_closed_element(Bytes& bytes) {
  const std::string tag = end_tag(bytes);
  const std::string tail = ending(bytes, 4096);
  return !tag.empty() && (tail.ends_with(tag) || tail.ends_with("/>") || tail.ends_with("-->"));
}

Walk walk(Bytes& bytes, std::string_view format) {
  const uint64_t size = bytes.size();
  const uint64_t sound = text_to(bytes);
  if (sound < size) return broken(sound, "What follows is no text.");
  if (format == "json" || format == "rtf") {
    const bool json = format == "json";
    const auto end = closes_at(bytes, size, json ? "{[" : "{", json ? "}]" : "}", json);
    if (!end) return broken(size, "It ends before it is closed.");
    const bool last = ending(bytes, size - *end).empty() || *end == size;
    return json && !last ? endless(size) : ended(Level::consistent, last ? size : *end);
  }
  if (format == "xml" || format == "svg") return closed(is_closed_element(bytes), size);
  if (format == "html" || format == "postscript") {
    const std::string_view last = format == "html" ? "</html>" : kEndOfPostScript;
    return lower(ending(bytes, 1024)).ends_with(last) ? ended(Level::consistent, size)
                                                      : endless(size);
  }
  if (format == "vcard") return closed(ending(bytes, 64).ends_with("END:VCARD"), size);
  if (format == "icalendar") return closed(ending(bytes, 64).ends_with("END:VCALENDAR"), size);
  return endless(size);
}

// Behind the line ends from `at` on.
uint64_t behind_line_ends(Bytes& bytes, uint64_t at) {
  while (bytes.u8(at) == '\r' || bytes.u8(at) == '\n') ++at;
  return at;
}

// Behind the first `tag` from the beginning of the text on, in any case of letters; nothing if none
// stands before it stops being text.
std::optional<uint64_t> behind_first(Bytes& bytes, const std::string& tag, uint64_t text_end) {
  for (uint64_t at = 0; at < text_end;) {
    const auto part = bytes.at(at, std::min<uint64_t>(Bytes::kMostAtOnce, text_end - at));
    if (part.size() < tag.size()) break;
    const std::string text =
        lower(std::string(reinterpret_cast<const char*>(part.data()), part.size()));
    if (const size_t found = text.find(tag); found != std::string::npos) {
      return at + found + tag.size();
    }
    at += part.size() - (tag.size() - 1);
  }
  return std::nullopt;
}

// Whether zeros fill the sector that `at` lies in, as drivers fill what is left behind the end.
bool is_filled_from(Bytes& bytes, uint64_t at) {
  constexpr uint64_t kSector = 512;
  const uint64_t left =
      std::min((kSector - at % kSector) % kSector, bytes.size() - std::min(at, bytes.size()));
  const auto rest = bytes.at(at, static_cast<size_t>(left));
  return rest.size() == left && is_zeros(rest);
}

// Where the text ends, if it does with `mark` (in lower case) and zeros follow.
std::optional<uint64_t> end_with(Bytes& bytes, std::string_view mark, uint64_t sound) {
  PartOfBytes text(bytes, 0, sound);
  const bool is = lower(ending(text, 1024)).ends_with(mark) && is_filled_from(bytes, sound);
  return is ? std::optional(sound) : std::nullopt;
}

// Mail ends behind the last of its parts (RFC 2046, 5.1.1); mail without parts, and mailboxes, with
// their text.
std::optional<uint64_t> end_of_mail(Bytes& bytes, std::string_view format, uint64_t sound) {
  if (format == "eml") {
    constexpr size_t kHead = 64 << 10;  // bytes
    const auto head = bytes.at(0, kHead);
    const std::string boundary =
        mail_boundary({reinterpret_cast<const char*>(head.data()), head.size()});
    if (!boundary.empty()) return behind_first(bytes, "\n--" + boundary + "--", sound);
  }
  return is_filled_from(bytes, sound) ? std::optional(sound) : std::nullopt;
}

// One value, to the end of the text.
std::optional<uint64_t> end_of_json(Bytes& bytes, uint64_t sound) {
  constexpr uint64_t kLeastJson = 16;  // bytes; less is found in what is none
  const auto end = closes_at(bytes, sound, "{[", "}]", true);
  const bool is_all = end && behind_line_ends(bytes, *end) == sound && is_filled_from(bytes, sound);
  return is_all && sound >= kLeastJson ? std::optional(*end) : std::nullopt;
}

// Kinds that close what they open end there, and mail; of others nothing tells.
Walk walk_open(Bytes& bytes, std::string_view format) {
  const uint64_t sound = text_to(bytes);
  std::optional<uint64_t> end;
  if (format == "json") {
    end = end_of_json(bytes, sound);
  } else if (format == "eml" || format == "mbox") {
    end = end_of_mail(bytes, format, sound);
  } else if (format == "rtf") {
    end = closes_at(bytes, sound, "{", "}", false);
  } else if (format == "xml" || format == "svg" || format == "html") {
    // Elements of its name may stand in it too.
    const std::string tag = format == "html" ? "</html>" : lower(end_tag(bytes));
    if (!tag.empty()) end = end_with(bytes, tag, sound);
    if (!tag.empty() && !end) end = behind_first(bytes, tag, sound);
  } else if (format == "postscript") {
    end = end_with(bytes, kEndOfPostScript, sound);
  } else if (format == "vcard" || format == "icalendar") {
    end = behind_first(bytes, format == "vcard" ? "end:vcard" : "end:vcalendar", sound);
  } else {
    return endless(sound);
  }
  if (!end || *end > sound) return broken(sound, "It ends before it is closed.");
  return ended(Level::consistent, behind_line_ends(bytes, *end));
}

// What stands between `open` and `close`, both in any case of letters.
std::string between(const std::string& text, std::string_view open, std::string_view close) {
  const std::string low = lower(text);
  const size_t at = low.find(open);
  if (at == std::string::npos) return {};
  const size_t from = at + open.size();
  const size_t end = low.find(close, from);
  return end == std::string::npos ? std::string() : text.substr(from, end - from);
}

void describe(Bytes& bytes, std::string_view format, Description& found) {
  const std::string text = "\n" + beginning(bytes.at(0, kLook));
  const auto line = [&](std::string_view key) { return between(text, key, "\n"); };
  if (format == "eml" || format == "mbox") {
    const std::string_view message = std::string_view(text).substr(1);
    found.title.put(mail_field(message, "subject"));
    found.author.put(mail_field(message, "from"));
    found.made.put(date_of_mail(mail_field(message, "date")));
  } else if (format == "html") {
    found.title.put(from_any(between(text, "<title>", "</title>")));
  } else if (format == "vcard") {
    found.title.put(from_any(line("\nfn:")));
  } else if (format == "icalendar") {
    found.title.put(from_any(line("\nsummary:")));
  } else if (format == "rtf") {
    found.title.put(from_any(between(text, "{\\title ", "}")));
  } else if (format == "text" && encoding_of(bytes.at(0, kLeast)) != Encoding::utf16) {
    found.title.put(from_any(line("\n")));
  }
}

}  // namespace

const Family kText{
    .recognise = recognise, .walk = walk, .walk_open = walk_open, .describe = describe};

}  // namespace undershelf::content
