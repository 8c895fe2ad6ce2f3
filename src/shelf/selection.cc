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

void read_text(const SQLite::Column& column, std::string& out) {
  out.assign(column.getText(), static_cast<size_t>(column.getBytes()));
}

// Reads one row into `row`, whose memory is used again.
void read_row(SQLite::Statement& statement, Row& row) {
  int index = 0;
  const auto next = [&] { return statement.getColumn(index++); };
  row.id = id_of<EntryId>(next());
  row.stream_id = id_of<StreamId>(next());
  row.volume = maybe_id<VolumeId>(next());
  read_text(next(), row.path);
  row.path_exact = next().getInt() != 0;
  read_text(next(), row.name);
  read_text(next(), row.kind);
  row.stream = maybe_text(next());
  read_text(next(), row.state);
  row.marked_deleted = next().getInt() != 0;
  row.size = maybe_size(next());
  row.created = maybe_time(next());
  row.modified = maybe_time(next());
  row.accessed = maybe_time(next());
  row.deleted = maybe_time(next());
  row.original_path = maybe_text(next());
  row.type = maybe_text(next());
  row.rating = maybe_text(next());
  row.score.reset();
  if (const auto score = next(); row.rating) row.score = score.getInt();
  row.intact_bytes = maybe_size(next());
  const auto raw = next();
  row.raw_name.assign(static_cast<const char*>(raw.getBlob()), static_cast<size_t>(raw.getBytes()));
  row.parent = maybe_id<EntryId>(next());
  row.trashed = next().getInt() != 0;
  row.encrypted = next().getInt() != 0;
  row.placement = maybe_text(next());
  row.check = maybe_text(next());
  row.format = maybe_text(next());
  row.sha256 = maybe_text(next());
  row.former_paths.clear();
}

}  // namespace

void each_row(const Shelf& shelf, const Selection& selection,
              const std::function<bool(const Row&)>& visit) {
  const SelectionQuery query(shelf, selection);
  std::string sql = query.select(list_columns() + ", '{n}'='n' AS link") + query.order();
  if (selection.limit) sql += fmt::format(" LIMIT {}", *selection.limit);
  SQLite::Statement statement(shelf.db(), sql);
  SQLite::Statement former(shelf.db(), fmt::format("SELECT {} FROM names n WHERE n.entry=? AND "
                                                   "n.kind='former' ORDER BY n.id",
                                                   kFormerPath));
  Row row;
  while (statement.executeStep()) {
    read_row(statement, row);
    constexpr int kRenamed = 28, kLink = 29;
    if (statement.getColumn(kRenamed).getInt() != 0) {
      former.bind(1, number_of(row.id));
      while (former.executeStep()) row.former_paths.push_back(former.getColumn(0).getString());
      former.reset();
    }
    row.link = statement.getColumn(kLink).getInt() != 0;
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
  std::string sql = query.select(std::string("e.id AS id, e.volume AS volume, ") + kPath +
                                 " AS path, e.kind, s.name, e.state, "
                                 "CASE WHEN e.kind='file' OR s.name IS NOT NULL THEN s.size END, "
                                 "s.rating, s.score, '{n}'='n' AS link") +
                    query.order();
  if (selection.limit) sql += fmt::format(" LIMIT {}", *selection.limit);
  SQLite::Statement statement(shelf.db(), sql);
  Row row;
  while (statement.executeStep()) {
    row.id = id_of<EntryId>(statement.getColumn(0));
    row.volume = maybe_id<VolumeId>(statement.getColumn(1));
    read_text(statement.getColumn(2), row.path);
    read_text(statement.getColumn(3), row.kind);
    row.stream = maybe_text(statement.getColumn(4));
    read_text(statement.getColumn(5), row.state);
    row.size = maybe_size(statement.getColumn(6));
    row.rating.reset();
    row.score.reset();
    if (!row.is_folder()) row.rating = maybe_text(statement.getColumn(7));
    if (row.rating) row.score = statement.getColumn(8).getInt();
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
  while (statement.executeStep()) {
    row.id = id_of<EntryId>(statement.getColumn(0));
    row.stream_id = id_of<StreamId>(statement.getColumn(1));
    row.volume = maybe_id<VolumeId>(statement.getColumn(2));
    read_text(statement.getColumn(3), row.path);
    read_text(statement.getColumn(4), row.kind);
    row.stream = maybe_text(statement.getColumn(5));
    row.original_path = maybe_text(statement.getColumn(6));
    row.type = maybe_text(statement.getColumn(7));
    row.size = maybe_size(statement.getColumn(8));
    row.modified = maybe_time(statement.getColumn(9));
    row.accessed = maybe_time(statement.getColumn(10));
    row.rating = maybe_text(statement.getColumn(11));
    row.link = statement.getColumn(12).getInt() != 0;
    if (!visit(row)) return;
  }
}

EntryId resolve_id(const Shelf& shelf, EntryId id) {
  SQLite::Statement row(shelf.db(), "SELECT merged_into FROM entries WHERE id=?");
  for (EntryId next = id;;) {
    row.bind(1, number_of(next));
    if (!row.executeStep()) {
      throw Error(Failure::usage,
                  fmt::format("The shelf has no entry {}. `undershelf list` shows the ids.", id));
    }
    if (row.getColumn(0).isNull()) return next;
    next = id_of<EntryId>(row.getColumn(0));
    row.reset();
  }
}

}  // namespace undershelf
