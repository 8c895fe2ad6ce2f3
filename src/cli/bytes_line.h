// The line that is shown while so many bytes are worked through.
#pragma once

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cstdint>
#include <string>

#include "cli/output.h"

namespace undershelf::cli {

class BytesLine {
 public:
  std::string operator()(uint64_t done, uint64_t total) const {
    std::string text = fmt::format("{} of {} ({} %)", table_size(done), table_size(total),
                                   total == 0 ? 100 : std::min<uint64_t>(100, done * 100 / total));
    const std::chrono::duration<double> passed = std::chrono::steady_clock::now() - started_;
    const double rate = static_cast<double>(done) / std::max(passed.count(), 1e-3);
    if (passed.count() > 0.5 && rate > 0) {
      text += fmt::format(", {}/s, {} left", table_size(static_cast<uint64_t>(rate)),
                          duration(static_cast<double>(total - std::min(total, done)) / rate));
    }
    return text;
  }

 private:
  std::chrono::steady_clock::time_point started_ = std::chrono::steady_clock::now();
};

}  // namespace undershelf::cli
