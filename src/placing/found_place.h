// Keeps the place that content gave a lost file.
#pragma once

#include <cstdint>

#include "checking/examine.h"
#include "model/ids.h"
#include "model/pieces.h"

namespace SQLite {
class Database;
}

namespace undershelf {

struct FoundPlace {
  StreamId stream{};
  EntryId entry{};
  uint64_t size = 0;  // bytes
  Pieces pieces;
  uint64_t gaps = 0;      // between them
  const char* fact = "";  // that is evidence of it (docs/shelf.md), with its amount
  uint64_t amount = 0;
};

// The place is no longer open: later passes leave the stream there. `found`: what looking at it
// there gave.
void keep_found_place(SQLite::Database& db, const FoundPlace& place,
                      const checking::Examined& found);

}  // namespace undershelf
