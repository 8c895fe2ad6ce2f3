// Text from disks: to UTF-8 in NFC, keeping what UTF-8 cannot say.
#pragma once

#include <string>
#include <string_view>

#include "model/entry.h"

namespace undershelf {

// As `raw` of a name holds it: little-endian.
std::string bytes_of_utf16(std::u16string_view text);

// A name stored as UTF-16. Unpaired surrogates, NUL and `/` (which no name can hold) become
// U+FFFD; then `exact` is false. `raw` holds what was stored where the text is another: then, and
// where it was not in NFC.
Name name_from_utf16(std::u16string_view stored);

// Text in an OEM code page, by its ICU name ("ibm-437"). Bytes without a character become U+FFFD.
// Throws Error (usage) if there is no such code page. Not to be shared between threads.
class CodePage {
 public:
  explicit CodePage(const std::string& name);
  ~CodePage();
  CodePage(const CodePage&) = delete;
  CodePage& operator=(const CodePage&) = delete;
  std::u16string decode(std::string_view bytes) const;

 private:
  void* converter_;  // a UConverter
};

std::string to_utf8(std::u16string_view text);        // unpaired surrogates become U+FFFD
std::u16string to_utf16(std::string_view utf8);       // malformed UTF-8 becomes U+FFFD
std::string to_nfc(std::string_view utf8);            // canonical composition
std::u16string lower_case(std::u16string_view text);  // each character by itself
std::string fold_case(std::string_view utf8);         // full case folding, for comparing
// Likewise, and without accents: what people type who look for a word.
std::string fold_for_search(std::string_view utf8);
std::string to_hex(std::string_view bytes);  // lower-case

// `utf8` cut to at most `most` bytes, never inside a character.
std::string_view cut_utf8(std::string_view utf8, size_t most);

// Whether a terminal may take a character for more than itself: control characters (C0, DEL, C1),
// marks that turn the direction of text, and separators of lines.
bool steers_a_terminal(char32_t c);

// Appends `utf8` to `out`, with each character that may steer a terminal in the form that
// `pattern` (fmt) gives its number; malformed UTF-8 becomes U+FFFD.
void escape_steering(std::string_view utf8, const char* pattern, std::string& out);

// `utf8` as it may be shown to people: what may steer a terminal as \x1b or \u202e.
std::string printable(std::string_view utf8);

// `utf8` with all that may steer a terminal replaced by U+FFFD: what can be a name on any system.
std::string without_controls(std::string_view utf8);

// Columns that `utf8` takes in a terminal: 2 for wide characters, 0 for combining ones.
size_t columns(std::string_view utf8);

}  // namespace undershelf
