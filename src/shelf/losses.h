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

// All that was met in reading, by stream.
std::unordered_map<StreamId, Losses> load_unreadable(SQLite::Database& db);

// Forgets all losses but those that were met in reading, which rating cannot find out again.
void forget_losses(SQLite::Database& db);

// Forgets those that were met in reading.
void forget_unreadable(SQLite::Database& db);

class LossWriter {
 public:
  explicit LossWriter(SQLite::Database& db) : insert_(db, "INSERT INTO losses VALUES(?,?,?,?)") {}
  // `cause` limits what is written to one cause. Losses that were met in reading are written only
  // if they are asked for: they are stored already.
  void add(StreamId stream, const Losses& losses, std::optional<Loss::Cause> cause = std::nullopt);

 private:
  SQLite::Statement insert_;
};

}  // namespace undershelf
