#include "source/through.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <filesystem>
#include <mutex>
#include <vector>

#include "model/blank.h"
#include "model/error.h"
#include "model/time.h"
#include "source/device.h"
#include "source/medium_source.h"
#include "source/nbd.h"

namespace undershelf {
namespace {

class ThroughSource : public Source {
 public:
  ThroughSource(Medium& medium, ImageCopy& image) : medium_(medium), image_(image) {
    for (const ByteRange& failed : image.in({0, medium.size()}, Finding::State::failed)) {
      gaps_.push_back({failed});
    }
  }
  uint64_t size() const override { return medium_.size(); }
  uint32_t sector_size() const override { return medium_.sector_size(); }
  std::span<const BadRange> gaps() const override { return gaps_; }

  ReadResult read(uint64_t offset, std::span<std::byte> out) const override {
    ReadResult result;
    std::ranges::fill(out, std::byte{0});
    const ByteRange wanted{offset, out.size()};
    const std::lock_guard lock(mutex_);
    for (const Noted& noted : image_.in(wanted)) {
      if (is_asked_for(noted.finding)) ask(noted.range);
    }
    for (const Noted& noted : image_.in(wanted)) {
      const auto target = out.subspan(noted.range.offset - offset, noted.range.length);
      const bool read = noted.finding.state == Finding::State::read;
      if (read && image_.get(noted.range.offset, target)) continue;
      add_bad(result, {noted.range, is_asked_for(noted.finding)});
    }
    if (wanted.end() > size()) {
      const uint64_t from = std::max(size(), offset);
      add_bad(result, {{from, wanted.end() - from}});
    }
    return result;
  }

 private:
  static bool is_asked_for(const Finding& finding) {
    return finding.state == Finding::State::untried || finding.state == Finding::State::skipped;
  }

  void ask(const ByteRange& range) const {
    fetch(medium_, range, [&](const ByteRange& got, std::span<const std::byte> bytes, int error) {
      // Widened to whole units it may reach into what was read before.
      for (const Noted& noted : image_.in(got)) {
        if (!is_asked_for(noted.finding)) continue;
        if (error == 0) {
          image_.put(noted.range.offset,
                     bytes.subspan(noted.range.offset - got.offset, noted.range.length), false);
        } else {
          image_.note(noted.range, {Finding::State::failed, false, 1, error});
        }
      }
    });
  }

  Medium& medium_;
  ImageCopy& image_;
  std::vector<BadRange> gaps_;
  mutable std::mutex mutex_;
};

// One that holds what it reads from.
struct Opened {
  Opened(const std::string& path, const std::string& image_path)
      : medium(open_medium(path)),
        image(image_path, header_of(path, *medium)),
        source(*medium, image) {}
  std::unique_ptr<Medium> medium;
  ImageCopy image;
  ThroughSource source;
};

}  // namespace

LedgerHeader header_of(const std::string& path, const Medium& medium) {
  LedgerHeader header;
  header.source = is_nbd(path) ? path : std::filesystem::absolute(path).lexically_normal().string();
  if (const auto facts = examine_device(path)) header.serial = facts->serial;
  header.size = medium.size();
  header.sector_size = medium.sector_size();
  header.begun = to_rfc3339(current_time());
  return header;
}

void require_same_medium(Medium& medium, const ImageCopy& image, const std::string& path) {
  constexpr size_t kPlaces = 16;
  constexpr Medium::Seconds kPatience{5};
  const uint64_t unit = std::max<uint64_t>(medium.unit(), Medium::kAlignment);
  std::vector<uint64_t> places;
  for (const ByteRange& range : image.in({0, medium.size()}, Finding::State::read)) {
    const uint64_t begin = (range.offset + unit - 1) / unit * unit;
    const uint64_t units = range.end() > begin ? (range.end() - begin) / unit : 0;
    for (size_t i = 0; i < std::min<uint64_t>(kPlaces, units); ++i) {
      places.push_back(begin + units * i / kPlaces * unit);
    }
  }
  const AlignedBytes now = aligned_bytes(unit);
  std::vector<std::byte> before(unit);
  size_t compared = 0;
  size_t different = 0;
  const size_t step = std::max<size_t>(1, places.size() / kPlaces);
  for (size_t i = 0; i < places.size(); i += step) {
    if (!image.get(places[i], before) || is_one_value(before)) continue;
    if (!medium.read(places[i], {now.get(), unit}, kPatience).ok()) continue;
    ++compared;
    different += std::memcmp(now.get(), before.data(), unit) != 0;
  }
  if (2 * different <= compared) return;  // a failing medium may give other bytes now and then
  throw Error(
      Failure::unavailable,
      fmt::format("{} is the copy of another medium: at {} of {} places it has other bytes. "
                  "Give the right medium, or another file.",
                  path, different, compared));
}

SourcePtr through(Medium& medium, ImageCopy& image) {
  return std::make_shared<ThroughSource>(medium, image);
}

SourcePtr open_through(const std::string& path, const std::string& image) {
  const auto opened = std::make_shared<Opened>(path, image);
  // Both are closed when the last who reads lets go of it.
  return {opened, &opened->source};
}

}  // namespace undershelf
