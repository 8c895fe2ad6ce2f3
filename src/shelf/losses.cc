#include "shelf/losses.h"

#include "shelf/rows.h"

namespace undershelf {

Losses load_losses(SQLite::Database& db, StreamId stream) {
  SQLite::Statement row(db,
                        "SELECT offset, length, cause FROM losses WHERE stream=? ORDER BY offset");
  row.bind(1, number_of(stream));
  Losses losses;
  while (row.executeStep()) {
    const auto cause = cause_named(row.getColumn(2).getText());
    if (!cause) continue;
    losses.push_back({size_of(row.getColumn(0)), size_of(row.getColumn(1)), *cause});
  }
  // Two causes may concern the same bytes where one was met in reading.
  return settled(losses, INT64_MAX);
}

std::unordered_map<StreamId, Losses> load_unreadable(SQLite::Database& db) {
  std::unordered_map<StreamId, Losses> found;
  SQLite::Statement row(db, "SELECT stream, offset, length FROM losses WHERE cause='unreadable'");
  while (row.executeStep()) {
    found[id_of<StreamId>(row.getColumn(0))].push_back(
        {size_of(row.getColumn(1)), size_of(row.getColumn(2)), Loss::Cause::unreadable});
  }
  return found;
}

void forget_losses(SQLite::Database& db) { db.exec("DELETE FROM losses"); }

void forget_unreadable(SQLite::Database& db) {
  db.exec("DELETE FROM losses WHERE cause='unreadable'");
}

void LossWriter::add(StreamId stream, const Losses& losses) {
  for (const Loss& loss : losses) {
    insert_.bind(1, number_of(stream));
    insert_.bind(2, static_cast<int64_t>(loss.offset));
    insert_.bind(3, static_cast<int64_t>(loss.length));
    insert_.bindNoCopy(4, to_text(loss.cause).data());
    insert_.exec();
    insert_.reset();
  }
}

}  // namespace undershelf
