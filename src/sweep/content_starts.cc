#include "sweep/content_starts.h"

#include <cstring>
#include <string_view>

#include "content/starts.h"
#include "content/types.h"

namespace undershelf {
namespace {

constexpr size_t kMostMarks = 200'000;

// The first descriptor of an ISO 9660 volume (ECMA-119, 8.4) stands so many bytes in.
constexpr uint64_t kBeforeDescriptor = 16 * 2048;
bool is_descriptor(std::span<const std::byte> sector) {
  constexpr std::string_view kPrimary("\1CD001\1", 7);
  return std::memcmp(sector.data(), kPrimary.data(), kPrimary.size()) == 0;
}

bool may_be_start(const unsigned char* sector) {
  const unsigned descriptor = unsigned{sector[0] == 1} & unsigned{sector[1] == 'C'};
  const auto* bytes = reinterpret_cast<const std::byte*>(sector);
  return (descriptor | unsigned{!content::cannot_begin({bytes, kSweepStep})}) != 0;
}

class ContentDetector : public Detector {
 public:
  size_t reach() const override { return content::kStartLength; }
  void look(const SweepBlock& block, std::vector<Trace>& found) const override {
    block.each_sector<content::kTarMark>(may_be_start, [&](size_t at, const unsigned char*) {
      const auto there = block.bytes.subspan(at);
      if (is_descriptor(there) && block.offset + at >= kBeforeDescriptor) {
        found.push_back({block.offset + at - kBeforeDescriptor, kSweepStep, kStartTrace, 0, 0});
      }
      const auto mark = mark_at(there.first(kSweepStep));
      const size_t length = std::min(there.size(), content::kStartLength);
      if (content::may_begin(there.first(length), block.before(at))) {
        found.push_back({block.offset + at, kSweepStep, kStartTrace, mark.value_or(0), 0});
      } else if (mark) {
        found.push_back({block.offset + at, kSweepStep, kMarkTrace, *mark, 0});
      }
    });
  }

  void keep(const Trace& trace, std::vector<Trace>& kept) override {
    if (trace.kind == kMarkTrace && ++marks_ > kMostMarks) return;
    kept.push_back(trace);
  }

  bool can_have_found(const Trace& trace) const override {
    return trace.kind == kStartTrace || trace.kind == kMarkTrace;
  }

 private:
  size_t marks_ = 0;
};

}  // namespace

std::unique_ptr<Detector> make_content_detector() { return std::make_unique<ContentDetector>(); }

}  // namespace undershelf
