#include "shelf/query.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <sqlite3.h>

#include "model/text.h"
#include "shelf/shelf.h"
#include "shelf/sql_functions.h"
#include "shelf/sql_text.h"

namespace undershelf {

struct NamedRows {
  std::string_view names, orphan;  // for `{n}` and `{o}`
  std::string_view table;          // of the names
  std::string_view content;        // joins streams (`s`) and the folders' paths (`f`) to it
  std::string_view where;
  bool link;
};

namespace {

constexpr NamedRows kEntries{"e",
                             "e.orphan",
                             "entries e",
                             " LEFT JOIN streams s ON s.entry=e.id "
                             "LEFT JOIN folder_paths f ON f.entry=e.parent",
                             " WHERE e.merged_into IS NULL",
                             false};
constexpr NamedRows kLinks{"n",
                           "(n.parent IS NULL AND n.parent_key IS NOT NULL)",
                           "names n JOIN entries e ON e.id=n.entry",
                           " LEFT JOIN streams s ON s.entry=e.id "
                           "LEFT JOIN folder_paths f ON f.entry=n.parent",
                           " WHERE n.kind='link' AND e.merged_into IS NULL",
                           true};

std::string of(const NamedRows& rows, std::string sql) {
  const auto replace = [&](std::string_view mark, std::string_view by) {
    for (size_t at = 0; (at = sql.find(mark, at)) != std::string::npos; at += by.size()) {
      sql.replace(at, mark.size(), by);
    }
  };
  replace("{n}", rows.names);
  replace("{o}", rows.orphan);
  return sql;
}

std::vector<Glob> compile(const std::vector<std::string>& patterns, bool match_case) {
  std::vector<Glob> globs;
  for (const std::string& pattern : patterns) globs.emplace_back(pattern, match_case);
  return globs;
}

// A glob over whole paths as users write it: paths are printed with a slash behind folders, and
// none in front.
std::string path_pattern(const std::string& written) {
  const size_t first = written.find_first_not_of('/');
  if (first == std::string::npos) return written;
  return written.substr(first, written.find_last_not_of('/') + 1 - first);
}

constexpr const char* kHasContent = "(e.kind='file' OR s.name IS NOT NULL)";

// Names an entry has now, or had before. `function`: that a name must fit; `last`: likewise, of the
// end of a path.
std::string by_name(const NamedRows& rows, std::string_view function, std::string_view last) {
  std::string test =
      fmt::format("{0}({{n}}.name) OR (s.name IS NOT NULL AND {0}(s.name))", function);
  if (!rows.link) {
    test += fmt::format(
        " OR e.id IN (SELECT entry FROM names WHERE kind='former' AND {}(name)) OR "
        "(e.original_path IS NOT NULL AND {}(e.original_path))",
        function, last);
  }
  return "(" + test + ")";
}

std::string by_path(const NamedRows& rows) {
  std::string test = fmt::format("path_matches({})", kPath);
  if (!rows.link) {
    test += fmt::format(
        " OR e.id IN (SELECT n.entry FROM names n WHERE n.kind='former' AND path_matches({})) OR "
        "(e.original_path IS NOT NULL AND path_matches(e.original_path))",
        kFormerPath);
  }
  return "(" + test + ")";
}

}  // namespace

const std::string& list_columns() {
  static const std::string kColumns =
      std::string("e.id AS id, coalesce(s.id,0), e.volume AS volume, ") + kPath +
      " AS path, {n}.name_exact AND NOT {o} AND coalesce(f.exact,1), {n}.name AS name, e.kind AS "
      "kind, s.name, e.state AS state, e.marked_deleted, "
      "CASE WHEN e.kind='file' OR s.name IS NOT NULL THEN s.size END AS size, "
      "e.created AS created, e.modified AS modified, e.accessed AS accessed, e.deleted AS deleted, "
      "e.original_path, coalesce(s.type, e.type) AS type, s.rating AS rating, s.score AS score, "
      "s.intact_bytes AS intact_bytes, {n}.raw_name, {n}.parent AS parent, "
      "e.trashed, "
      "s.encoding='encrypted', s.placement, s.checked, s.format, s.sha256 AS sha256, e.id IN "
      "(SELECT entry "
      "FROM names WHERE kind='former')";
  return kColumns;
}

SelectionQuery::SelectionQuery(const Shelf& shelf, const Selection& selection)
    : db_(shelf.db()),
      selection_(selection),
      names_(compile(selection.names, selection.match_case)) {
  for (const std::string& path : selection.paths) {
    paths_.emplace_back(path_pattern(path), selection.match_case);
  }
  for (const std::string& name : selection.names) {
    last_parts_.emplace_back("**/" + name, selection.match_case);
    last_parts_.emplace_back(name, selection.match_case);
  }
  for (const std::string& extension : selection.extensions) {
    endings_.emplace_back("**." + extension, selection.match_case);
  }
  for (const std::string& word : selection.words) words_.push_back(fold_for_search(word));
  sqlite3* handle = db_.getHandle();
  sqlite3_create_collation(handle, "by_parts", SQLITE_UTF8, nullptr, compare_by_parts);
  const auto add = [&](const char* name, auto& what, auto* function) {
    const int code = sqlite3_create_function(handle, name, 1, SQLITE_UTF8 | SQLITE_DETERMINISTIC,
                                             &what, function, nullptr, nullptr);
    if (code != SQLITE_OK) throw SQLite::Exception(handle, code);
  };
  add("name_matches", names_, glob_matches);
  add("path_matches", paths_, glob_matches);
  add("last_part_matches", last_parts_, glob_matches);
  add("ending_matches", endings_, glob_matches);
  add("contains_word", words_, contains_word);
  if (selection.with_contents && !(selection.ids.empty() && selection.paths.empty())) {
    collect_contents();
  }
}

std::string SelectionQuery::order_and_limit() const {
  return order() + (selection_.limit ? fmt::format(" LIMIT {}", *selection_.limit) : "");
}

std::string SelectionQuery::order() const {
  const std::string last = ", volume, path COLLATE by_parts, id, link";
  if (selection_.duplicates && selection_.sort.empty()) return " ORDER BY size DESC, sha256" + last;
  // As the index of the names' folders has them, so that nothing is sorted.
  if (selection_.by_folder) return " ORDER BY parent, id";
  const std::string way = selection_.descending ? " DESC" : "";
  if (selection_.sort.empty() || selection_.sort == "volume") {
    return fmt::format(" ORDER BY volume{}, path COLLATE by_parts{}, id, link", way, way);
  }
  if (selection_.sort == "rating") {
    return fmt::format(" ORDER BY best_first{} NULLS LAST, score{} NULLS LAST{}", way,
                       selection_.descending ? "" : " DESC", last);
  }
  const bool text = selection_.sort == "path" || selection_.sort == "name";
  return fmt::format(" ORDER BY {}{}{} NULLS LAST{}", selection_.sort,
                     text ? " COLLATE by_parts" : "", way, last);
}

std::string SelectionQuery::select(const std::string& asked, bool content) const {
  // A compound of two selects is ordered by its columns only.
  const std::string columns =
      selection_.sort == "rating"
          ? asked +
                ", CASE s.rating WHEN 'whole' THEN 0 WHEN 'likely' THEN 1 WHEN 'partial' THEN 2 "
                "WHEN 'gone' THEN 3 END AS best_first"
          : asked;
  const auto rows = [&](const NamedRows& h) {
    return fmt::format("SELECT {} FROM {}{}{}{}", of(h, columns), h.table, content ? h.content : "",
                       h.where, of(h, where(h)));
  };
  return selection_.links ? rows(kEntries) + " UNION ALL " + rows(kLinks) : rows(kEntries);
}

std::string SelectionQuery::where(const NamedRows& rows) const {
  std::string sql;
  const auto require = [&](const std::string& test) { sql += " AND " + test; };
  // NTFS has a record for the root, which is a folder in itself.
  require(selection_.system ? "e.name<>'.'" : "e.system=0");
  if (!selection_.secondary) require("s.name IS NULL");
  if (!names_.empty()) {
    require(by_name(rows, "name_matches", "last_part_matches"));
  }
  if (!words_.empty()) require(by_name(rows, "contains_word", "contains_word"));
  if (!endings_.empty()) require("e.kind='file' AND ending_matches({n}.name)");
  if (!selection_.types.empty()) require(one_of("coalesce(s.type, e.type)", selection_.types));
  if (!selection_.states.empty()) require(one_of("e.state", selection_.states));
  if (!selection_.kinds.empty()) require(one_of("e.kind", selection_.kinds));
  if (!selection_.volumes.empty()) {
    require(fmt::format("e.volume IN ({})", fmt::join(selection_.volumes, ",")));
  }
  if (!selection_.parents.empty()) {
    require(fmt::format("{}.parent IN ({})", rows.names, fmt::join(selection_.parents, ",")));
  }
  if (selection_.trashed) require("e.trashed=1");
  if (selection_.hidden) require("e.hidden=1");
  if (selection_.duplicates) {
    require(
        "s.size>0 AND s.sha256 IN (SELECT s.sha256 FROM streams s JOIN entries e ON "
        "e.id=s.entry WHERE s.sha256 IS NOT NULL AND e.merged_into IS NULL AND e.system=0 "
        "GROUP BY s.sha256 HAVING count(*)>1)");
  }
  if (!selection_.ratings.empty()) {
    require(std::string(kHasContent) + " AND " + one_of("s.rating", selection_.ratings));
  }
  if (!selection_.sizes.empty()) {
    require(std::string(kHasContent) + " AND " + in_ranges("s.size", selection_.sizes));
  }
  if (!selection_.modified.empty()) require(in_ranges("e.modified", selection_.modified));
  if (!selection_.created.empty()) require(in_ranges("e.created", selection_.created));
  if (!selection_.accessed.empty()) require(in_ranges("e.accessed", selection_.accessed));
  if (!selection_.deleted.empty()) require(in_ranges("e.deleted", selection_.deleted));
  if (const std::string chosen = chosen_by_id_and_path(rows); !chosen.empty()) require(chosen);
  return sql;
}

std::string SelectionQuery::chosen(const NamedRows& rows) const {
  std::vector<std::string> tests;
  if (!selection_.ids.empty()) {
    tests.push_back(fmt::format("e.id IN ({})", fmt::join(selection_.ids, ",")));
  }
  if (!paths_.empty()) tests.push_back(by_path(rows));
  return fmt::format("{}", fmt::join(tests, " AND "));
}

std::string SelectionQuery::chosen_by_id_and_path(const NamedRows& rows) const {
  std::string all = chosen(rows);
  if (all.empty() || !selection_.with_contents) return all;
  return fmt::format(
      "(({}) OR {}.parent IN (SELECT entry FROM temp.inside) OR e.id IN (SELECT "
      "entry FROM temp.inside))",
      all, rows.names);
}

// The folders that were chosen by id or path, and those below them.
void SelectionQuery::collect_contents() {
  db_.exec("CREATE TEMP TABLE IF NOT EXISTS inside(entry INTEGER PRIMARY KEY)");
  db_.exec("DELETE FROM temp.inside");
  db_.exec(fmt::format(
      "INSERT OR IGNORE INTO temp.inside WITH RECURSIVE below(entry) AS ("
      "SELECT e.id FROM {}{}{} AND e.kind='folder' AND {} UNION SELECT c.id FROM entries "
      "c JOIN below "
      "ON c.parent=below.entry WHERE c.merged_into IS NULL AND c.kind='folder') "
      "SELECT entry FROM below",
      kEntries.table, kEntries.content, kEntries.where, of(kEntries, chosen(kEntries))));
}

}  // namespace undershelf
