// How many names of lost files are kept that stale places tell (NTFS: indexes and journals, HFS+:
// old nodes): they are held in memory until all are known, and whoever made a disk decides how many
// there are.
#pragma once

#include <cstddef>
#include <cstdint>

namespace undershelf {

class NameLimit {
 public:
  // Whether one more may be kept of a file of which `of_one` are. It is counted either way.
  bool take(size_t of_one) {
    if (of_one >= kMostOfOneFile || is_full()) {
      ++left_out_;
      return false;
    }
    ++kept_;
    return true;
  }
  bool is_full() const { return kept_ >= kMostKept; }
  uint64_t left_out() const { return left_out_; }

  static constexpr size_t kMostOfOneFile = 1024;  // as many as a file may have hard links on NTFS

 private:
  static constexpr size_t kMostKept = 1'000'000;  // at most some 300 MB
  size_t kept_ = 0;
  uint64_t left_out_ = 0;
};

}  // namespace undershelf
