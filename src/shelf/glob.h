// Patterns over names and paths.
#pragma once

#include <string>
#include <string_view>

namespace undershelf {

// `*` stands for any characters but `/`, `**` for any at all, `?` for one character but `/`. A
// pattern stands for the whole of what it is compared with. Works on UTF-8; time is bounded by the
// product of both lengths.
class Glob {
 public:
  Glob(const std::string& pattern, bool match_case);
  bool matches(std::string_view utf8) const;

 private:
  std::u32string pattern_;  // with kStar and kStars for the two kinds of star
  bool match_case_;
};

}  // namespace undershelf
