// Statements on a shelf that end when the user asks for it.
#pragma once

#include "model/budget.h"
#include "shelf/shelf.h"

namespace undershelf {

// While one lives, a statement that goes on when the budget is stopped throws an exception of
// SQLite, for which is_interruption() is true. At most one at a time on a shelf.
class Interruptible {
 public:
  // Both must outlive it.
  Interruptible(const Shelf& shelf, Budget& budget);
  ~Interruptible();
  Interruptible(const Interruptible&) = delete;
  Interruptible& operator=(const Interruptible&) = delete;

 private:
  const Shelf& shelf_;
};

bool is_interruption(const std::exception& thrown);

}  // namespace undershelf
