// What fuzzers make of their bytes: a source of which only some sectors are not zero. So inputs
// stay small, and the program still meets volumes of any size.
#pragma once

#include <map>
#include <mutex>
#include <vector>

#include "model/sink.h"
#include "source/source.h"

namespace undershelf::fuzz {

// Input: the size of the source in sectors of 512 bytes (4 bytes, little-endian), then for each
// sector that is not zero its number (4 bytes) and its bytes. What is left over is not looked at.
class SparseSource : public Source {
 public:
  SparseSource(std::span<const uint8_t> input, uint64_t most_bytes);
  explicit SparseSource(uint64_t size) : size_(size) {}
  uint64_t size() const override { return size_; }
  uint32_t sector_size() const override { return 512; }
  ReadResult read(uint64_t offset, std::span<std::byte> out) const override;

 private:
  uint64_t size_;
  std::map<uint32_t, std::span<const uint8_t>> sectors_;
};

// Passes reads on, and remembers which sectors were asked for.
class RecordingSource : public Source {
 public:
  explicit RecordingSource(SourcePtr base) : base_(std::move(base)) {}
  uint64_t size() const override { return base_->size(); }
  uint32_t sector_size() const override { return base_->sector_size(); }
  ReadResult read(uint64_t offset, std::span<std::byte> out) const override;
  // The input that stands for what was read, but for sectors of zeros: at most `most` sectors.
  std::vector<uint8_t> input(size_t most) const;

 private:
  SourcePtr base_;
  mutable std::mutex mutex_;  // readers ask from two threads
  mutable std::map<uint32_t, std::vector<uint8_t>> sectors_;
};

// Takes whatever a reader pushes.
class NullSink : public Sink {
 public:
  EntryId add(const Entry&) override { return static_cast<EntryId>(++entries_); }
  void add(EntryId, const OtherName&) override {}
  void add(const Damage&) override { ++damage_; }

 private:
  int64_t entries_ = 0;
  int64_t damage_ = 0;
};

}  // namespace undershelf::fuzz
