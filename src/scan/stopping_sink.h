// Between a reader and the shelf: ends the reading once the user asks for that.
#pragma once

#include <atomic>

#include "model/sink.h"

namespace undershelf {

// What a StoppingSink throws. No failure: what was pushed before is kept.
struct Stopped {};

class StoppingSink : public Sink {
 public:
  // `stop` may be null. Both must outlive it.
  StoppingSink(Sink& to, const std::atomic<bool>* stop) : to_(to), stop_(stop) {}
  int64_t add(const Entry& entry) override {
    check();
    return to_.add(entry);
  }
  void add(int64_t entry, const OtherName& name) override {
    check();
    to_.add(entry, name);
  }
  void add(const Damage& damage) override {
    check();
    to_.add(damage);
  }

 private:
  void check() const {
    if (stop_ != nullptr && *stop_) throw Stopped{};
  }
  Sink& to_;
  const std::atomic<bool>* stop_;
};

}  // namespace undershelf
