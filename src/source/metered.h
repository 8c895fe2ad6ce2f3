// A source each read of which is charged to a budget.
#pragma once

#include "model/budget.h"
#include "source/source.h"

namespace undershelf {

// read() throws Stopped or Overspent, and then has read nothing.
class MeteredSource : public Source {
 public:
  // `budget` must outlive it.
  MeteredSource(SourcePtr base, Budget& budget) : base_(std::move(base)), budget_(budget) {}
  uint64_t size() const override { return base_->size(); }
  uint32_t sector_size() const override { return base_->sector_size(); }
  std::span<const BadRange> gaps() const override { return base_->gaps(); }
  ReadResult read(uint64_t offset, std::span<std::byte> out) const override {
    budget_.read(out.size());
    return base_->read(offset, out);
  }

 private:
  SourcePtr base_;
  Budget& budget_;
};

}  // namespace undershelf
