#include "model/entry.h"

#include <array>

namespace undershelf {

std::string_view to_text(State state) {
  constexpr std::array<std::string_view, 4> kTexts = {"live", "deleted", "former", "carved"};
  return kTexts[static_cast<size_t>(state)];
}

std::string_view to_text(Proof proof) {
  constexpr std::array<std::string_view, 3> kTexts = {"last", "unsure", "old"};
  return kTexts[static_cast<size_t>(proof)];
}

std::string_view to_text(Kind kind) { return kind == Kind::file ? "file" : "folder"; }

std::string_view to_text(Encoding encoding) {
  constexpr std::array<std::string_view, 3> kTexts = {"plain", "compressed", "encrypted"};
  return kTexts[static_cast<size_t>(encoding)];
}

std::string_view to_text(Codec codec) {
  constexpr std::array<std::string_view, 8> kTexts = {
      "none", "lznt1", "xpress4k", "xpress8k", "xpress16k", "lzx", "zlib", "zlib-blocks"};
  return kTexts[static_cast<size_t>(codec)];
}

std::string_view to_text(OtherName::Kind kind) {
  return kind == OtherName::Kind::link ? "link" : "former";
}

std::string_view to_text(Placement placement) {
  constexpr std::array<std::string_view, 5> kTexts = {"exact", "inferred", "content", "guessed",
                                                      "none"};
  return kTexts[static_cast<size_t>(placement)];
}

}  // namespace undershelf
