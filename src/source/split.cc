#include "source/split.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <optional>
#include <string_view>

#include "model/error.h"
#include "source/nbd.h"

namespace undershelf {
namespace {

constexpr uint64_t kLookAhead = 16;  // segments looked for behind one that is missing

// How the segments of an image are named that one name belongs to.
struct Series {
  enum class Kind { digits, letters } kind = Kind::digits;
  std::string stem;     // what stands before the number
  size_t width = 0;     // of the number; 0: as many digits as it has
  uint64_t number = 0;  // of the name that was given
  char first_letter = 'a';

  std::string name_of(uint64_t n) const {
    if (kind == Kind::digits) return fmt::format("{}{:0{}}", stem, n, width);
    std::string letters(width, first_letter);
    for (size_t i = width; i-- > 0; n /= 26) letters[i] = static_cast<char>(first_letter + n % 26);
    return stem + letters;
  }
  bool exists(uint64_t n) const {
    std::error_code error;
    return std::filesystem::is_regular_file(name_of(n), error);
  }
  // Numbers begin at 0 or at 1.
  uint64_t first() const { return kind == Kind::letters || exists(0) ? 0 : 1; }
};

bool all_between(std::string_view text, char least, char most) {
  return std::ranges::all_of(text, [&](char c) { return c >= least && c <= most; });
}

// name.001, name.1, name.part1, name.aa; nothing if a path is named in no such way.
std::optional<Series> series_of(const std::string& path) {
  const size_t dot = path.rfind('.');
  if (dot == std::string::npos) return std::nullopt;
  constexpr std::string_view kPart = "part";
  std::string end = path.substr(dot + 1);
  Series series;
  series.stem = path.substr(0, dot + 1);
  if (end.starts_with(kPart)) {
    series.stem += kPart;
    end.erase(0, kPart.size());
  }
  if (!end.empty() && end.size() <= 6 && all_between(end, '0', '9')) {
    series.width = end.size() > 1 ? end.size() : 0;
    series.number = std::stoull(end);
    return series;
  }
  const bool small = all_between(end, 'a', 'z');
  if (end.size() < 2 || end.size() > 4 || (!small && !all_between(end, 'A', 'Z'))) {
    return std::nullopt;
  }
  series.kind = Series::Kind::letters;
  series.width = end.size();
  series.first_letter = small ? 'a' : 'A';
  for (const char c : end) {
    series.number = series.number * 26 + static_cast<uint64_t>(c - series.first_letter);
  }
  return series;
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
  const std::optional<Series> series = series_of(path);
  if (!series) return {path};
  const uint64_t first = series->first();
  if (series->number != first) {
    if (series->number > first && series->exists(first) && series->exists(first + 1)) {
      throw Error(Failure::unavailable,
                  fmt::format("{} is a later segment of a split image. Give the first one, {}.",
                              path, series->name_of(first)));
    }
    // Other files have such endings, too.
    const bool is_one_of_many = series->number > first && series->exists(series->number - 1) &&
                                series->exists(series->number);
    if (!is_one_of_many) return {path};
    throw Error(Failure::unavailable,
                fmt::format("{} is a later segment of a split image, and its first one, {}, is not "
                            "there. Put it beside the others.",
                            path, series->name_of(first)));
  }
  std::vector<std::string> segments = {path};
  for (uint64_t number = first + 1; series->exists(number); ++number) {
    segments.push_back(series->name_of(number));
  }
  const uint64_t missing = first + segments.size();
  // Letters and one digit are seldom those of a segment that lacks its neighbours.
  const bool is_padded = series->kind == Series::Kind::digits && series->width > 1;
  for (uint64_t number = missing + 1; number <= missing + kLookAhead; ++number) {
    if ((is_padded || segments.size() > 1) && series->exists(number)) {
      throw Error(Failure::unavailable,
                  fmt::format("The segment {} is missing, and {} is there. Put it beside the "
                              "others.",
                              series->name_of(missing), series->name_of(number)));
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
    throw Error(
        Failure::unavailable,
        fmt::format("The segment {} has {} bytes and the first one {}: a copy is not "
                    "complete, or the segments are in the wrong order. If they are meant to be "
                    "so, join them by `cat`, in order, into one file.",
                    paths[i], segments[i]->size(), usual));
  }
  return std::make_shared<SplitSource>(segments);
}

}  // namespace undershelf
