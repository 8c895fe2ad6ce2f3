// What a place begins with, out of many marks: made for places of which nearly all have none. For
// the content folder's own use.
#pragma once

#include <array>
#include <cstdint>
#include <string_view>

namespace undershelf::content {

// Marks by their first byte, at most 12 with the same one; the marks must outlive it.
class Marks {
 public:
  constexpr Marks() = default;
  // `mark`: not empty. One that is there already stands once.
  constexpr void add(std::string_view mark) {
    const auto first = static_cast<unsigned char>(mark[0]);
    for (size_t i = 0; i < counts_[first]; ++i) {
      if (marks_[first][i] == mark) return;
    }
    marks_[first].at(counts_[first]) = mark;
    ++counts_[first];
  }
  // The first that was added of those with which `head` begins; empty if none.
  std::string_view at(std::string_view head) const {
    if (head.empty()) return {};
    const auto first = static_cast<unsigned char>(head[0]);
    for (size_t i = 0; i < counts_[first]; ++i) {
      if (head.starts_with(marks_[first][i])) return marks_[first][i];
    }
    return {};
  }

 private:
  std::array<uint8_t, 256> counts_{};  // apart, as nearly all that are asked for are 0
  std::array<std::array<std::string_view, 12>, 256> marks_{};
};

}  // namespace undershelf::content
