// What a piece of work may cost, and whether it is to end: handed to all whose course a disk
// decides.
#pragma once

#include <atomic>
#include <cstdint>
#include <exception>

namespace undershelf {

// How often the user has asked to end what goes on.
using Interrupts = std::atomic<int>;

// Thrown when the user asks to end. No failure: what was done before counts.
struct Stopped : std::exception {
  const char* what() const noexcept override { return "the user asked to end"; }
};

// Thrown when a piece of work asks for more than it may. Likewise.
struct Overspent : std::exception {
  explicit Overspent(const char* what_of) : of(what_of) {}
  const char* what() const noexcept override { return of; }
  const char* of;  // "bytes to read" and so on, for a sentence
};

// Counts what one piece of work after another costs. All members but begin() and heed() may be
// called from several threads.
class Budget {
 public:
  // Each in what its counter counts.
  struct Limits {
    uint64_t bytes = UINT64_MAX;  // read
    uint64_t rows = UINT64_MAX;   // entries, further names and places of damage
    uint64_t steps = UINT64_MAX;  // of loops that neither read nor push
  };

  // `interrupts` may be null; it must outlive the budget.
  explicit Budget(const Interrupts* interrupts = nullptr) : interrupts_(interrupts) {}

  // The next piece of work: from here on these limits hold.
  void begin(const Limits& limits);
  // What the user asked so far is heeded by now: only what is asked from here on counts.
  void heed();

  // Each throws Stopped or Overspent.
  void read(uint64_t bytes) { spend(bytes_, bytes, limits_.bytes, "bytes to read"); }
  void row() { spend(rows_, 1, limits_.rows, "entries"); }
  void step(uint64_t steps = 1) { spend(steps_, steps, limits_.steps, "steps"); }

  bool is_stopped() const { return interrupts_ != nullptr && *interrupts_ > heeded_; }

  // Spent since begin().
  uint64_t bytes() const { return bytes_; }
  uint64_t rows() const { return rows_; }
  uint64_t steps() const { return steps_; }

 private:
  void spend(std::atomic<uint64_t>& counter, uint64_t amount, uint64_t limit, const char* of) {
    if (is_stopped()) throw Stopped{};
    if (counter.fetch_add(amount, std::memory_order_relaxed) + amount > limit) {
      throw Overspent{of};
    }
  }

  const Interrupts* interrupts_;
  int heeded_ = 0;
  Limits limits_;
  std::atomic<uint64_t> bytes_ = 0, rows_ = 0, steps_ = 0;
};

}  // namespace undershelf
