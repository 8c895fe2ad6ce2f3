// Between a reader and the shelf: charges what is pushed to a budget.
#pragma once

#include "model/budget.h"
#include "model/sink.h"

namespace undershelf {

// All members throw Stopped or Overspent; what was pushed before is kept.
class BudgetedSink : public Sink {
 public:
  // Both must outlive it.
  BudgetedSink(Sink& to, Budget& budget) : to_(to), budget_(budget) {}
  EntryId add(const Entry& entry) override {
    budget_.row();
    return to_.add(entry);
  }
  void add(EntryId entry, const OtherName& name) override {
    budget_.row();
    to_.add(entry, name);
  }
  void add(const Damage& damage) override {
    budget_.row();
    to_.add(damage);
  }

 private:
  Sink& to_;
  Budget& budget_;
};

}  // namespace undershelf
