#include "source/split.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "model/error.h"
#include "source/nbd.h"

namespace undershelf {
namespace {

constexpr int kLookAhead = 16;  // segments looked for behind one that is missing

std::string numbered(const std::string& stem, size_t digits, int number) {
  return fmt::format("{}.{:0{}}", stem, number, digits);
}

class SplitSource : public Source {
 public:
  explicit SplitSource(std::vector<SourcePtr> segments) : segments_(std::move(segments)) {
    for (const SourcePtr& segment : segments_) {
      starts_.push_back(size_);
      size_ += segment->size();
    }
  }
  uint64_t size() const override { return size_; }
  uint32_t sector_size() const override { return segments_.front()->sector_size(); }

  ReadResult read(uint64_t offset, std::span<std::byte> out) const override {
    ReadResult result;
    size_t done = 0;
    while (done < out.size()) {
      const uint64_t at = offset + done;
      if (at >= size_) {
        std::fill(out.begin() + static_cast<ptrdiff_t>(done), out.end(), std::byte{0});
        add_bad(result, {{at, out.size() - done}});
        break;
      }
      const auto next = std::ranges::upper_bound(starts_, at);
      const auto number = static_cast<size_t>(next - starts_.begin()) - 1;
      const uint64_t within = at - starts_[number];
      const size_t step = std::min<uint64_t>(out.size() - done, segments_[number]->size() - within);
      for (BadRange bad : segments_[number]->read(within, out.subspan(done, step)).bad) {
        bad.offset += starts_[number];
        add_bad(result, bad);
      }
      done += step;
    }
    return result;
  }

 private:
  std::vector<SourcePtr> segments_;
  std::vector<uint64_t> starts_;  // byte of the whole at which each segment starts
  uint64_t size_ = 0;
};

}  // namespace

std::vector<std::string> segments_of(const std::string& path) {
  if (is_nbd(path)) return {path};
  const size_t dot = path.rfind('.');
  const std::string digits = dot == std::string::npos ? "" : path.substr(dot + 1);
  if (digits.size() < 2 || digits.size() > 6 ||
      !std::ranges::all_of(digits, [](char c) { return c >= '0' && c <= '9'; })) {
    return {path};
  }
  const std::string stem = path.substr(0, dot);
  const auto exists = [&](int number) {
    return std::filesystem::exists(numbered(stem, digits.size(), number));
  };
  const int given = std::stoi(digits);
  if (given != 1) {
    if (given > 1 && exists(1)) {
      throw Error(Failure::unavailable,
                  fmt::format("{} is a later segment of a split image. Give the first one, {}.",
                              path, numbered(stem, digits.size(), 1)));
    }
    return {path};
  }
  std::vector<std::string> segments = {path};
  for (int number = 2; exists(number); ++number) {
    segments.push_back(numbered(stem, digits.size(), number));
  }
  const int missing = static_cast<int>(segments.size()) + 1;
  for (int number = missing + 1; number <= missing + kLookAhead; ++number) {
    if (exists(number)) {
      throw Error(Failure::unavailable,
                  fmt::format("The segment {} is missing, and {} is there. Put it beside the "
                              "others.",
                              numbered(stem, digits.size(), missing),
                              numbered(stem, digits.size(), number)));
    }
  }
  return segments;
}

SourcePtr join_segments(const std::vector<std::string>& paths,
                        const std::vector<SourcePtr>& segments) {
  if (segments.size() == 1) return segments.front();
  for (size_t i = 1; i < segments.size(); ++i) {
    const bool last = i + 1 == segments.size();
    const uint64_t usual = segments.front()->size();
    if (segments[i]->size() == usual || (last && segments[i]->size() < usual)) continue;
    throw Error(Failure::unavailable,
                fmt::format("The segment {} has {} bytes and the first one {}: a copy is not "
                            "complete, or the segments are in the wrong order. Check them.",
                            paths[i], segments[i]->size(), usual));
  }
  return std::make_shared<SplitSource>(segments);
}

}  // namespace undershelf
