// A pattern, and behind the first line break what it is compared with.
#include "shelf/glob.h"

extern "C" int LLVMFuzzerTestOneInput(const uint8_t* data, size_t size) {
  const std::string_view input(reinterpret_cast<const char*>(data), size);
  const size_t line = input.find('\n');
  const std::string pattern(input.substr(0, line));
  const std::string_view text = line == std::string_view::npos ? "" : input.substr(line + 1);
  for (const bool match_case : {false, true}) undershelf::Glob(pattern, match_case).matches(text);
  return 0;
}
