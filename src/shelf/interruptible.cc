#include "shelf/interruptible.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <sqlite3.h>

namespace undershelf {

Interruptible::Interruptible(const Shelf& shelf, Budget& budget) : shelf_(shelf) {
  constexpr int kInstructions = 10'000;  // between two looks: some tenths of a millisecond
  sqlite3_progress_handler(
      shelf.db().getHandle(), kInstructions,
      [](void* of) { return static_cast<const Budget*>(of)->is_stopped() ? 1 : 0; }, &budget);
}

Interruptible::~Interruptible() {
  sqlite3_progress_handler(shelf_.db().getHandle(), 0, nullptr, nullptr);
}

bool is_interruption(const std::exception& thrown) {
  const auto* failure = dynamic_cast<const SQLite::Exception*>(&thrown);
  return failure != nullptr && failure->getErrorCode() == SQLITE_INTERRUPT;
}

}  // namespace undershelf
