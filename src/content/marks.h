// What a place begins with, out of many marks: made for places of which nearly all have none. For
// the content folder's own use.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <string_view>

namespace undershelf::content {

// At most 128 marks, which must outlive it. What begins with none is mostly seen by its first four
// bytes, without a branch that would depend on them.
class Marks {
 public:
  constexpr Marks() = default;
  // `mark`: not empty. One that is there already stands once.
  constexpr void add(std::string_view mark) {
    for (size_t i = 0; i < count_; ++i) {
      if (marks_[i] == mark) return;
    }
    for (size_t at = 0; at < fit_.size(); ++at) {
      for (size_t c = 0; c < 256; ++c) {
        const bool fits = at >= mark.size() || static_cast<unsigned char>(mark[at]) == c;
        if (fits) fit_[at][c] |= bit(count_);
      }
    }
    marks_.at(count_++) = mark;
  }
  // 0 if `head`, of four bytes or more, begins with none, as nearly all do; a bit for those that
  // it may begin with.
  uint32_t fitting(std::string_view head) const {
    const auto fits = [&](size_t at) { return fit_[at][static_cast<unsigned char>(head[at])]; };
    return fits(0) & fits(1) & fits(2) & fits(3);
  }
  // The first that was added of those with which `head` begins; empty if none.
  std::string_view at(std::string_view head) const {
    const uint32_t bits = head.size() < fit_.size() ? ~uint32_t{0} : fitting(head);
    if (bits == 0) return {};
    for (size_t i = 0; i < count_; ++i) {
      if ((bits & bit(i)) != 0 && head.starts_with(marks_[i])) return marks_[i];
    }
    return {};
  }

 private:
  // Several marks share one.
  static constexpr uint32_t bit(size_t mark) { return uint32_t{1} << mark % 32; }

  size_t count_ = 0;
  std::array<std::string_view, 128> marks_{};
  // By place and byte: the bits of the marks that it fits.
  std::array<std::array<uint32_t, 256>, 4> fit_{};
};

}  // namespace undershelf::content
