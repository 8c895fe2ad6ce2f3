// The table of what is lost of each stream.
#pragma once

#include <SQLiteCpp/Database.h>
#include <SQLiteCpp/Statement.h>

#include <optional>
#include <unordered_map>

#include "model/ids.h"
#include "model/loss.h"

namespace undershelf {

// What the shelf says is lost of a stream, settled.
Losses load_losses(SQLite::Database& db, StreamId stream);

// All that was tried and cannot be read, by stream.
std::unordered_map<StreamId, Losses> load_unreadable(SQLite::Database& db);

// Forgets all losses. Those that sampling met rating cannot find out again: it keeps them.
void forget_losses(SQLite::Database& db);

// Forgets those.
void forget_unreadable(SQLite::Database& db);

class LossWriter {
 public:
  explicit LossWriter(SQLite::Database& db) : insert_(db, "INSERT INTO losses VALUES(?,?,?,?)") {}
  void add(StreamId stream, const Losses& losses);

 private:
  SQLite::Statement insert_;
};

}  // namespace undershelf
