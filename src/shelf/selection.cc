#include "shelf/selection.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <sqlite3.h>

#include <algorithm>

#include "model/error.h"
#include "model/text.h"
#include "shelf/glob.h"
#include "shelf/rows.h"

namespace undershelf {
namespace {

constexpr const char* kPath =
    "CASE WHEN e.orphan THEN '[orphans]/'||e.name WHEN e.parent IS NULL THEN e.name "
    "ELSE f.path||'/'||e.name END || CASE WHEN s.name IS NULL THEN '' ELSE ':'||s.name END";

constexpr const char* kFrom =
    " FROM entries e LEFT JOIN streams s ON s.entry=e.id "
    "LEFT JOIN folder_paths f ON f.entry=e.parent WHERE e.merged_into IS NULL";

// Paths in the order of a tree: a folder, then what is in it, then its next sibling.
int compare_by_parts(void*, int a_size, const void* a_data, int b_size, const void* b_data) {
  const auto* a = static_cast<const unsigned char*>(a_data);
  const auto* b = static_cast<const unsigned char*>(b_data);
  const int common = std::min(a_size, b_size);
  for (int i = 0; i < common; ++i) {
    if (a[i] != b[i]) return a[i] == '/' ? -1 : b[i] == '/' ? 1 : a[i] - b[i];
  }
  return a_size - b_size;
}

// SQL function glob_matches(text): whether any of the globs it was registered with matches.
void glob_matches(sqlite3_context* context, int, sqlite3_value** arguments) {
  const auto& globs = *static_cast<const std::vector<Glob>*>(sqlite3_user_data(context));
  const auto* text = reinterpret_cast<const char*>(sqlite3_value_text(arguments[0]));
  const std::string_view view(text == nullptr ? "" : text,
                              static_cast<size_t>(sqlite3_value_bytes(arguments[0])));
  const bool any = std::ranges::any_of(globs, [&](const Glob& g) { return g.matches(view); });
  sqlite3_result_int(context, any ? 1 : 0);
}

std::vector<Glob> compile(const std::vector<std::string>& patterns, bool match_case) {
  std::vector<Glob> globs;
  for (const std::string& pattern : patterns) globs.emplace_back(pattern, match_case);
  return globs;
}

std::string quoted(const std::string& text) {
  std::string out = "'";
  for (const char c : text) {
    if (c == '\'') out += c;
    out += c;
  }
  return out + "'";
}

std::string one_of(const std::string& column, const std::vector<std::string>& values) {
  std::vector<std::string> list;
  for (const std::string& value : values) list.push_back(quoted(value));
  return fmt::format("{} IN ({})", column, fmt::join(list, ","));
}

int64_t as_integer(uint64_t value) { return static_cast<int64_t>(value); }
int64_t as_integer(Time value) { return value.ticks; }

template <typename Value>
std::string in_ranges(const std::string& column, const std::vector<Between<Value>>& ranges) {
  std::vector<std::string> alternatives;
  for (const Between<Value>& range : ranges) {
    std::string test = column + " IS NOT NULL";
    if (range.from) test += fmt::format(" AND {}>={}", column, as_integer(*range.from));
    if (range.to) test += fmt::format(" AND {}<={}", column, as_integer(*range.to));
    alternatives.push_back("(" + test + ")");
  }
  return fmt::format("({})", fmt::join(alternatives, " OR "));
}

// A query over the shelf, with its functions registered while it lives.
class Query {
 public:
  Query(const Shelf& shelf, const Selection& selection)
      : db_(shelf.db()),
        selection_(selection),
        names_(compile(selection.names, selection.match_case)),
        paths_(compile(selection.paths, selection.match_case)) {
    for (const std::string& extension : selection.extensions) {
      endings_.emplace_back("**." + extension, selection.match_case);
    }
    sqlite3* handle = db_.getHandle();
    sqlite3_create_collation(handle, "by_parts", SQLITE_UTF8, nullptr, compare_by_parts);
    const auto add = [&](const char* function, std::vector<Glob>& globs) {
      sqlite3_create_function(handle, function, 1, SQLITE_UTF8 | SQLITE_DETERMINISTIC, &globs,
                              glob_matches, nullptr, nullptr);
    };
    add("name_matches", names_);
    add("path_matches", paths_);
    add("ending_matches", endings_);
    if (selection.with_contents && !(selection.ids.empty() && selection.paths.empty())) {
      collect_contents();
    }
  }

  std::string where() const {
    std::string sql;
    const auto require = [&](const std::string& test) { sql += " AND " + test; };
    if (!selection_.system) require("e.system=0");
    if (!selection_.secondary) require("s.name IS NULL");
    if (!names_.empty()) require("name_matches(e.name)");
    if (!endings_.empty()) require("e.kind='file' AND ending_matches(e.name)");
    if (!selection_.types.empty()) require(one_of("e.type", selection_.types));
    if (!selection_.states.empty()) require(one_of("e.state", selection_.states));
    if (!selection_.kinds.empty()) require(one_of("e.kind", selection_.kinds));
    if (!selection_.volumes.empty()) {
      require(fmt::format("e.volume IN ({})", fmt::join(selection_.volumes, ",")));
    }
    if (selection_.rating) {
      const std::vector<std::string> best_first = {"whole", "likely", "partial", "gone"};
      const auto end = std::ranges::find(best_first, *selection_.rating);
      require("e.kind='file' AND " +
              one_of("s.rating", {best_first.begin(), std::min(end + 1, best_first.end())}));
    }
    if (!selection_.sizes.empty()) {
      require("e.kind='file' AND " + in_ranges("s.size", selection_.sizes));
    }
    if (!selection_.modified.empty()) require(in_ranges("e.modified", selection_.modified));
    if (!selection_.created.empty()) require(in_ranges("e.created", selection_.created));
    if (!selection_.accessed.empty()) require(in_ranges("e.accessed", selection_.accessed));
    if (!selection_.deleted.empty()) require(in_ranges("e.deleted", selection_.deleted));
    if (const std::string chosen = chosen_by_id_and_path(); !chosen.empty()) require(chosen);
    return sql;
  }

  std::string order() const {
    if (selection_.sort.empty() || selection_.sort == "volume") {
      return " ORDER BY e.volume, path COLLATE by_parts, e.id";
    }
    if (selection_.sort == "rating") {
      return " ORDER BY CASE s.rating WHEN 'whole' THEN 0 WHEN 'likely' THEN 1 WHEN 'partial' "
             "THEN 2 WHEN 'gone' THEN 3 ELSE 4 END, s.score DESC, e.volume, "
             "path COLLATE by_parts";
    }
    const bool of_stream = selection_.sort == "size" || selection_.sort == "score" ||
                           selection_.sort == "intact_bytes";
    const std::string column = selection_.sort == "path" ? "path COLLATE by_parts"
                               : of_stream               ? "s." + selection_.sort
                                                         : "e." + selection_.sort;
    return fmt::format(" ORDER BY {} NULLS LAST, e.volume, path COLLATE by_parts", column);
  }

 private:
  std::string chosen_by_id_and_path() const {
    std::vector<std::string> tests;
    if (!selection_.ids.empty()) {
      tests.push_back(fmt::format("e.id IN ({})", fmt::join(selection_.ids, ",")));
    }
    if (!paths_.empty()) tests.push_back(fmt::format("path_matches({})", kPath));
    if (tests.empty()) return {};
    const std::string all = fmt::format("{}", fmt::join(tests, " AND "));
    if (!selection_.with_contents) return all;
    return fmt::format("(({}) OR e.id IN (SELECT entry FROM temp.inside))", all);
  }

  // Everything below the folders that were chosen by id or path.
  void collect_contents() {
    db_.exec("CREATE TEMP TABLE IF NOT EXISTS inside(entry INTEGER PRIMARY KEY)");
    db_.exec("DELETE FROM temp.inside");
    std::vector<std::string> tests = {"e.kind='folder'"};
    if (!selection_.ids.empty()) {
      tests.push_back(fmt::format("e.id IN ({})", fmt::join(selection_.ids, ",")));
    }
    if (!paths_.empty()) tests.push_back(fmt::format("path_matches({})", kPath));
    db_.exec(fmt::format(
        "INSERT OR IGNORE INTO temp.inside WITH RECURSIVE below(entry) AS ("
        "SELECT e.id{} AND {} UNION SELECT c.id FROM entries c JOIN below ON c.parent=below.entry "
        "WHERE c.merged_into IS NULL) SELECT entry FROM below",
        kFrom, fmt::join(tests, " AND ")));
  }

  SQLite::Database& db_;
  const Selection& selection_;
  std::vector<Glob> names_, paths_, endings_;
};

}  // namespace

void each_row(const Shelf& shelf, const Selection& selection,
              const std::function<bool(Row&&)>& visit) {
  const Query query(shelf, selection);
  std::string sql = fmt::format(
      "SELECT e.id, coalesce(s.id,0), e.volume, {} AS path, e.name_exact AND NOT e.orphan AND "
      "coalesce(f.exact,1), e.name, e.kind, s.name, e.state, e.marked_deleted, s.size, e.created, "
      "e.modified, e.accessed, e.deleted, e.original_path, e.type, s.rating, s.score, "
      "s.intact_bytes, coalesce(e.raw_name,x''), e.parent{}{}{}",
      kPath, kFrom, query.where(), query.order());
  if (selection.limit) sql += fmt::format(" LIMIT {}", *selection.limit);
  SQLite::Statement statement(shelf.db(), sql);
  while (statement.executeStep()) {
    const auto column = [&](int i) { return statement.getColumn(i); };
    Row row;
    row.id = column(0).getInt64();
    row.stream_id = column(1).getInt64();
    row.volume = maybe_id(column(2));
    row.path = column(3).getString();
    row.path_exact = column(4).getInt() != 0;
    row.name = column(5).getString();
    row.kind = column(6).getString();
    row.stream = maybe_text(column(7));
    row.state = column(8).getString();
    row.marked_deleted = column(9).getInt() != 0;
    row.created = maybe_time(column(11));
    row.modified = maybe_time(column(12));
    row.accessed = maybe_time(column(13));
    row.deleted = maybe_time(column(14));
    row.original_path = maybe_text(column(15));
    row.type = maybe_text(column(16));
    if (row.kind == "file" || row.stream) {
      row.size = maybe_size(column(10));
      row.rating = maybe_text(column(17));
      if (row.rating) row.score = column(18).getInt();
      row.intact_bytes = maybe_size(column(19));
    }
    row.raw_name = column(20).getString();
    row.parent = maybe_id(column(21));
    if (!visit(std::move(row))) return;
  }
}

uint64_t count_rows(const Shelf& shelf, const Selection& selection) {
  const Query query(shelf, selection);
  const auto count =
      size_of(shelf.db().execAndGet(std::string("SELECT count(*)") + kFrom + query.where()));
  return selection.limit ? std::min(count, *selection.limit) : count;
}

TotalsByLoss total_rows(const Shelf& shelf, const Selection& selection) {
  const Query query(shelf, selection);
  // The order tells which rows a limit leaves.
  const std::string limited =
      selection.limit ? fmt::format("{} LIMIT {}", query.order(), *selection.limit) : "";
  SQLite::Statement row(
      shelf.db(),
      fmt::format("SELECT rating IS 'gone', count(*), coalesce(sum(size),0) FROM "
                  "(SELECT s.rating AS rating, s.size AS size, {} AS path{}{}{}) GROUP BY 1",
                  selection.limit ? kPath : "''", kFrom, query.where(), limited));
  TotalsByLoss totals;
  while (row.executeStep()) {
    Totals& part = row.getColumn(0).getInt() != 0 ? totals.gone : totals.others;
    part.rows = size_of(row.getColumn(1));
    part.bytes = size_of(row.getColumn(2));
  }
  return totals;
}

int64_t resolve_id(const Shelf& shelf, int64_t id) {
  SQLite::Statement row(shelf.db(), "SELECT merged_into FROM entries WHERE id=?");
  for (int64_t next = id;;) {
    row.bind(1, next);
    if (!row.executeStep()) {
      throw Error(Failure::usage,
                  fmt::format("The shelf has no entry {}. `undershelf list` shows the ids.", id));
    }
    if (row.getColumn(0).isNull()) return next;
    next = row.getColumn(0).getInt64();
    row.reset();
  }
}

}  // namespace undershelf
