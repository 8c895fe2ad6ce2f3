#include "source/ledger_source.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

#include "model/error.h"
#include "source/gaps.h"
#include "source/ledger.h"

namespace undershelf {
namespace {

class LedgerSource : public Source {
 public:
  LedgerSource(SourcePtr image, const Ledger& ledger)
      : image_(std::move(image)), sector_size_(ledger.header().sector_size) {
    ReadResult gaps;
    for (const Noted& noted : ledger.in({0, image_->size()})) {
      const Finding::State state = noted.finding.state;
      if (state == Finding::State::read) continue;
      add_bad(gaps, {noted.range, state != Finding::State::failed});
    }
    gaps_ = std::move(gaps.bad);
  }
  uint64_t size() const override { return image_->size(); }
  uint32_t sector_size() const override { return sector_size_; }
  std::span<const BadRange> gaps() const override { return gaps_; }
  uint64_t refused() const override { return image_->refused(); }
  // The holes of an image are its zeros, except where it has a gap.
  uint64_t next_data(uint64_t offset) const override {
    const auto gap = std::ranges::upper_bound(gaps_, offset, {}, &BadRange::end);
    const uint64_t data = image_->next_data(offset);
    return gap == gaps_.end() ? data : std::min(data, std::max(gap->offset, offset));
  }

  ReadResult read(uint64_t offset, std::span<std::byte> out) const override {
    ReadResult result = image_->read(offset, out);
    const ByteRange wanted{offset, out.size()};
    std::vector<BadRange> bad;
    each_gap(gaps_, wanted, [&](const ByteRange& inside, bool unread) {
      std::memset(out.data() + (inside.offset - offset), 0, inside.length);
      bad.push_back({inside, unread});
    });
    if (bad.empty()) return result;
    bad.insert(bad.begin(), result.bad.begin(), result.bad.end());
    // What the image's own medium fails to give may lie in a gap as well.
    std::ranges::stable_sort(bad, {}, &BadRange::offset);
    result.bad.clear();
    for (BadRange range : bad) {
      const uint64_t end = range.end();
      range.offset = std::max(range.offset, result.ok() ? 0 : result.bad.back().end());
      if (end <= range.offset) continue;
      range.length = end - range.offset;
      add_bad(result, range);
    }
    return result;
  }

 private:
  SourcePtr image_;
  uint32_t sector_size_;
  std::vector<BadRange> gaps_;
};

}  // namespace

SourcePtr with_ledger(SourcePtr image, const std::string& path) {
  const Ledger ledger = Ledger::load(ledger_of(path));
  if (ledger.header().size != image->size()) {
    throw Error(Failure::unavailable,
                fmt::format("{} has {} bytes, and its ledger is of {}. Give the image that belongs "
                            "to it, or take the ledger away if it belongs to none.",
                            path, image->size(), ledger.header().size));
  }
  return std::make_shared<LedgerSource>(std::move(image), ledger);
}

}  // namespace undershelf
