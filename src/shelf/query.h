// The query behind every look at a selection: the filters as SQL. For this folder's own use.
#pragma once

#include <SQLiteCpp/SQLiteCpp.h>

#include <string>
#include <vector>

#include "shelf/glob.h"
#include "shelf/selection.h"

namespace undershelf {

// A name that a row is listed under is an entry's own, or that of a further hard link. In the
// columns and conditions below `{n}` is the table that has the name, `{o}` whether its folder is
// not known; `e` is the entry, `s` the stream, `f` the path of the folder.
struct NamedRows;

// The path of a row; that of a name before, in the table `names n`.
inline constexpr const char* kPath =
    "CASE WHEN {o} THEN '[orphans]/'||{n}.name WHEN {n}.parent IS NULL THEN {n}.name "
    "ELSE coalesce(f.path,'[orphans]')||'/'||{n}.name END || "
    "CASE WHEN s.name IS NULL THEN '' ELSE ':'||s.name END";
inline constexpr const char* kFormerPath =
    "CASE WHEN n.parent IS NULL AND n.parent_key IS NULL THEN n.name "
    "ELSE coalesce((SELECT path FROM folder_paths WHERE entry=n.parent),'[orphans]')||'/'||n.name "
    "END";

// The columns of `list`, named as its fields are where they have names.
const std::string& list_columns();

// Registers functions with the database while it lives: at most one at a time, and none may begin
// while another one's rows are read. Not to be shared between threads.
class SelectionQuery {
 public:
  // `selection` must outlive it.
  SelectionQuery(const Shelf& shelf, const Selection& selection);

  // All rows, with these columns of each.
  std::string select(const std::string& columns) const { return select(columns, true); }
  // Names only, whatever the streams behind them. The selection must not ask for anything of those.
  std::string select_names(const std::string& columns) const { return select(columns, false); }
  // Of a query with the columns of `list`, by their names; and how many rows of it.
  std::string order_and_limit() const;

 private:
  std::string order() const;
  std::string select(const std::string& columns, bool content) const;
  std::string where(const NamedRows& rows) const;
  std::string chosen(const NamedRows& rows) const;
  std::string chosen_by_id_and_path(const NamedRows& rows) const;
  void collect_contents();

  SQLite::Database& db_;
  const Selection& selection_;
  std::vector<Glob> names_, paths_, last_parts_, endings_;
  std::vector<std::string> words_;
};

}  // namespace undershelf
