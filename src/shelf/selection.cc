#include "shelf/selection.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <sqlite3.h>

#include <algorithm>
#include <map>
#include <span>

#include "model/error.h"
#include "model/text.h"
#include "shelf/query.h"
#include "shelf/rows.h"
#include "shelf/sql_functions.h"
#include "shelf/sql_text.h"

namespace undershelf {
namespace {

// Reads one row into `row`, whose memory is used again.
void read_row(Columns& columns, Row& row) {
  int index = 0;
  const auto next = [&]() -> const SQLite::Column& { return columns[index++]; };
  row.id = id_of<EntryId>(next());
  row.stream_id = id_of<StreamId>(next());
  row.volume = maybe_id<VolumeId>(next());
  read_text(next(), row.path);
  row.path_exact = next().getInt() != 0;
  read_text(next(), row.name);
  read_text(next(), row.kind);
  read_text(next(), row.stream);
  read_text(next(), row.state);
  row.marked_deleted = next().getInt() != 0;
  row.size = maybe_size(next());
  row.created = maybe_time(next());
  row.modified = maybe_time(next());
  row.accessed = maybe_time(next());
  row.deleted = maybe_time(next());
  read_text(next(), row.original_path);
  read_text(next(), row.type);
  read_text(next(), row.rating);
  row.score.reset();
  if (const SQLite::Column& score = next(); row.rating) row.score = score.getInt();
  row.intact_bytes = maybe_size(next());
  row.raw_name = bytes_of(next());
  row.parent = maybe_id<EntryId>(next());
  row.trashed = next().getInt() != 0;
  row.encrypted = next().getInt() != 0;
  read_text(next(), row.placement);
  read_text(next(), row.check);
  read_text(next(), row.format);
  read_text(next(), row.sha256);
  row.former_paths.clear();
}

}  // namespace

void each_row(const Shelf& shelf, const Selection& selection,
              const std::function<bool(const Row&)>& visit) {
  const SelectionQuery query(shelf, selection);
  const std::string sql =
      query.select(list_columns() + ", '{n}'='n' AS link") + query.order_and_limit();
  SQLite::Statement statement(shelf.db(), sql);
  SQLite::Statement former(shelf.db(), fmt::format("SELECT {} FROM names n WHERE n.entry=? AND "
                                                   "n.kind='former' ORDER BY n.id",
                                                   kFormerPath));
  Row row;
  Columns columns(statement);
  while (statement.executeStep()) {
    read_row(columns, row);
    constexpr int kRenamed = 28, kLink = 29;
    if (columns[kRenamed].getInt() != 0) {
      former.bind(1, number_of(row.id));
      while (former.executeStep()) row.former_paths.push_back(former.getColumn(0).getString());
      former.reset();
    }
    row.link = columns[kLink].getInt() != 0;
    if (row.is_folder()) {
      row.rating.reset();
      row.score.reset();
      row.intact_bytes.reset();
      row.placement.reset();
    }
    if (!visit(row)) return;
  }
}

void each_outline(const Shelf& shelf, const Selection& selection,
                  const std::function<bool(const Row&)>& visit) {
  const SelectionQuery query(shelf, selection);
  const std::string sql =
      query.select(std::string("e.id AS id, e.volume AS volume, ") + kPath +
                   " AS path, e.kind, s.name, e.state, "
                   "CASE WHEN e.kind='file' OR s.name IS NOT NULL THEN s.size END, "
                   "s.rating, s.score, '{n}'='n' AS link") +
      query.order_and_limit();
  SQLite::Statement statement(shelf.db(), sql);
  Row row;
  Columns columns(statement);
  while (statement.executeStep()) {
    row.id = id_of<EntryId>(columns[0]);
    row.volume = maybe_id<VolumeId>(columns[1]);
    read_text(columns[2], row.path);
    read_text(columns[3], row.kind);
    read_text(columns[4], row.stream);
    read_text(columns[5], row.state);
    row.size = maybe_size(columns[6]);
    read_text(columns[7], row.rating);
    if (row.is_folder()) row.rating.reset();
    row.score.reset();
    if (row.rating) row.score = columns[8].getInt();
    if (!visit(row)) return;
  }
}

void each_place(const Shelf& shelf, const Selection& selection,
                const std::function<bool(const Row&)>& visit) {
  if (selection.limit) return each_row(shelf, selection, visit);
  const SelectionQuery query(shelf, selection);
  SQLite::Statement statement(
      shelf.db(), query.select(std::string("e.id, coalesce(s.id,0), e.volume, ") + kPath +
                               ", e.kind, s.name, e.original_path, coalesce(s.type, e.type), "
                               "s.size, e.modified, e.accessed, s.rating, '{n}'='n'"));
  Row row;
  Columns columns(statement);
  while (statement.executeStep()) {
    row.id = id_of<EntryId>(columns[0]);
    row.stream_id = id_of<StreamId>(columns[1]);
    row.volume = maybe_id<VolumeId>(columns[2]);
    read_text(columns[3], row.path);
    read_text(columns[4], row.kind);
    read_text(columns[5], row.stream);
    read_text(columns[6], row.original_path);
    read_text(columns[7], row.type);
    row.size = maybe_size(columns[8]);
    row.modified = maybe_time(columns[9]);
    row.accessed = maybe_time(columns[10]);
    read_text(columns[11], row.rating);
    row.link = columns[12].getInt() != 0;
    if (!visit(row)) return;
  }
}

EntryId resolve_id(const Shelf& shelf, EntryId id) {
  SQLite::Statement row(shelf.db(), "SELECT merged_into FROM entries WHERE id=?");
  constexpr int kMostMerges =
      1000;  // of one entry after the other; each pass resolves all it knows
  EntryId next = id;
  for (int step = 0; step < kMostMerges; ++step) {
    row.bind(1, number_of(next));
    if (!row.executeStep()) {
      throw Error(Failure::usage,
                  fmt::format("The shelf has no entry {}. `undershelf list` shows the ids.", id));
    }
    if (row.getColumn(0).isNull()) return next;
    next = id_of<EntryId>(row.getColumn(0));
    row.reset();
  }
  throw Error(
      Failure::unavailable,
      "The shelf is damaged: entries are merged in a circle. Scan the source into a new one.");
}

}  // namespace undershelf
