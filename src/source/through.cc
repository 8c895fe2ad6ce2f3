#include "source/through.h"

#include <algorithm>
#include <cstring>
#include <filesystem>
#include <mutex>

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

SourcePtr through(Medium& medium, ImageCopy& image) {
  return std::make_shared<ThroughSource>(medium, image);
}

SourcePtr open_through(const std::string& path, const std::string& image) {
  const auto opened = std::make_shared<Opened>(path, image);
  // Both are closed when the last who reads lets go of it.
  return {opened, &opened->source};
}

}  // namespace undershelf
