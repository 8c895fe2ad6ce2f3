// The lines that are shown while a scan goes on.
#pragma once

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <string>

#include "cli/output.h"
#include "content/types.h"
#include "scan/scan.h"

namespace undershelf::cli {

// The line that is shown while a volume is read: how many files of what type were found on it.
inline std::string found_line(const FilesByType& found) {
  uint64_t files = 0;
  std::string types;
  for (size_t i = 0; i < found.size(); ++i) {
    files += found[i];
    if (found[i] > 0) types += fmt::format(", {} {}", type_names()[i], found[i]);
  }
  return fmt::format("Reading: {}{}", counted(files, "file"), types);
}

// The line that is shown while a sweep goes on.
class SweepLine {
 public:
  std::string operator()(const SweepProgress& progress) const {
    const std::chrono::duration<double> passed = std::chrono::steady_clock::now() - started_;
    const uint64_t done = progress.position - progress.range.offset;
    const uint64_t left = progress.range.length - std::min(done, progress.range.length);
    std::string text =
        fmt::format("Sweeping: {:.1f} % done",
                    100.0 * static_cast<double>(done) /
                        static_cast<double>(std::max<uint64_t>(1, progress.range.length)));
    const double rate =
        static_cast<double>(progress.position - progress.begun_at) / std::max(passed.count(), 1e-3);
    if (passed.count() > 0.5 && rate > 0) {
      text += fmt::format(", {}/s, {} left", table_size(static_cast<uint64_t>(rate)),
                          duration(static_cast<double>(left) / rate));
    }
    uint64_t pieces = 0;
    for (const auto& [system, count] : progress.found) pieces += count;
    text += fmt::format(", {} found", counted(pieces, "piece"));
    return text;
  }

 private:
  std::chrono::steady_clock::time_point started_ = std::chrono::steady_clock::now();
};

// The line that is shown while files are checked. The first call begins its time.
class CheckLine {
 public:
  std::string operator()(const checking::CheckProgress& progress) const {
    if (progress.files <= 1) began_ = std::chrono::steady_clock::now();
    const std::chrono::duration<double> passed = std::chrono::steady_clock::now() - began_;
    std::string text =
        fmt::format("Checking: {} of {}", progress.files, counted(progress.all_files, "file"));
    const double rate = static_cast<double>(progress.bytes) / std::max(passed.count(), 1e-3);
    if (passed.count() > 0.5 && rate > 0) {
      text +=
          fmt::format(", {}/s, {} left", table_size(static_cast<uint64_t>(rate)),
                      duration(static_cast<double>(progress.all_bytes - progress.bytes) / rate));
    }
    return text;
  }

 private:
  mutable std::chrono::steady_clock::time_point began_;
};

}  // namespace undershelf::cli
