#include "sweep/content_starts.h"

#include "content/types.h"

namespace undershelf {
namespace {

constexpr size_t kMostStarts = 200'000;

class ContentDetector : public Detector {
 public:
  size_t reach() const override { return kSweepStep; }
  void look(const SweepBlock& block, std::vector<Trace>& found) override {
    for (size_t at = 0; at < block.own && at + kSweepStep <= block.bytes.size(); at += kSweepStep) {
      if (block.bytes[at] == std::byte{0} || kept_ >= kMostStarts) continue;
      if (const auto mark = mark_at(block.bytes.subspan(at, kSweepStep))) {
        found.push_back({block.offset + at, kSweepStep, 1, *mark, 0});
        ++kept_;
      }
    }
  }

 private:
  size_t kept_ = 0;
};

}  // namespace

std::unique_ptr<Detector> make_content_detector() { return std::make_unique<ContentDetector>(); }

}  // namespace undershelf
