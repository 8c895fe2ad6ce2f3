// Keeps what looking at a stream gave.
#pragma once

#include <SQLiteCpp/SQLiteCpp.h>

#include "checking/examine.h"
#include "model/ids.h"
#include "shelf/line.h"

namespace undershelf::checking {

class ExaminedStore {
 public:
  explicit ExaminedStore(SQLite::Database& db);
  // `size`: of the stream, in bytes.
  void put(StreamId stream, const Examined& found, uint64_t size);

 private:
  // JSON; empty if it says nothing.
  std::string told(const content::Description& says);
  void bind_or_null(int index, std::string_view text);
  SQLite::Statement update_;
  Line line_{Line::Form::json};
};

}  // namespace undershelf::checking
