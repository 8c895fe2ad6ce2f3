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
#include "shelf/glob.h"
#include "shelf/rows.h"
#include "shelf/sql_functions.h"
#include "shelf/sql_text.h"

namespace undershelf {
namespace {

// A name that a row is listed under is an entry's own, or that of a further hard link. In the
// queries below `{n}` is the table that has the name, `{o}` whether its folder is not known.
struct Half {
  std::string_view names, orphan;
  std::string_view table;    // of the names
  std::string_view content;  // joins streams (`s`) and the folders' paths (`f`) to it
  std::string_view where;
  bool link;
};
constexpr Half kEntries{"e",
                        "e.orphan",
                        "entries e",
                        " LEFT JOIN streams s ON s.entry=e.id "
                        "LEFT JOIN folder_paths f ON f.entry=e.parent",
                        " WHERE e.merged_into IS NULL",
                        false};
constexpr Half kLinks{"n",
                      "(n.parent IS NULL AND n.parent_key IS NOT NULL)",
                      "names n JOIN entries e ON e.id=n.entry",
                      " LEFT JOIN streams s ON s.entry=e.id "
                      "LEFT JOIN folder_paths f ON f.entry=n.parent",
                      " WHERE n.kind='link' AND e.merged_into IS NULL",
                      true};

std::string of(const Half& half, std::string sql) {
  const auto replace = [&](std::string_view mark, std::string_view by) {
    for (size_t at = 0; (at = sql.find(mark, at)) != std::string::npos; at += by.size()) {
      sql.replace(at, mark.size(), by);
    }
  };
  replace("{n}", half.names);
  replace("{o}", half.orphan);
  return sql;
}

constexpr const char* kPath =
    "CASE WHEN {o} THEN '[orphans]/'||{n}.name WHEN {n}.parent IS NULL THEN {n}.name "
    "ELSE coalesce(f.path,'[orphans]')||'/'||{n}.name END || "
    "CASE WHEN s.name IS NULL THEN '' ELSE ':'||s.name END";
constexpr const char* kFormerPath =
    "CASE WHEN n.parent IS NULL AND n.parent_key IS NULL THEN n.name "
    "ELSE coalesce((SELECT path FROM folder_paths WHERE entry=n.parent),'[orphans]')||'/'||n.name "
    "END";

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

// A query over the shelf, with its functions registered while it lives. At most one at a time.
class Query {
 public:
  // `selection` must outlive it.
  Query(const Shelf& shelf, const Selection& selection)
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
    sqlite3* handle = db_.getHandle();
    sqlite3_create_collation(handle, "by_parts", SQLITE_UTF8, nullptr, compare_by_parts);
    const auto add = [&](const char* function, std::vector<Glob>& globs) {
      const int code =
          sqlite3_create_function(handle, function, 1, SQLITE_UTF8 | SQLITE_DETERMINISTIC, &globs,
                                  glob_matches, nullptr, nullptr);
      if (code != SQLITE_OK) throw SQLite::Exception(handle, code);
    };
    add("name_matches", names_);
    add("path_matches", paths_);
    add("last_part_matches", last_parts_);
    add("ending_matches", endings_);
    if (selection.with_contents && !(selection.ids.empty() && selection.paths.empty())) {
      collect_contents();
    }
  }

  // All rows, with these columns of each. `{n}` and `{o}` in them: see Half.
  std::string select(const std::string& columns) const { return select(columns, true); }

  // Names only, whatever the streams behind them. The selection must not ask for anything of those.
  std::string select_names(const std::string& columns) const { return select(columns, false); }

  // Of a query with the columns of kRow.
  std::string order() const {
    const std::string last = ", volume, path COLLATE by_parts, id, link";
    const std::string way = selection_.descending ? " DESC" : "";
    if (selection_.sort.empty() || selection_.sort == "volume") {
      return fmt::format(" ORDER BY volume{}, path COLLATE by_parts{}, id, link", way, way);
    }
    if (selection_.sort == "rating") {
      return fmt::format(
          " ORDER BY CASE rating WHEN 'whole' THEN 0 WHEN 'likely' THEN 1 WHEN 'partial' THEN 2 "
          "WHEN 'gone' THEN 3 END{} NULLS LAST, score{} NULLS LAST{}",
          way, selection_.descending ? "" : " DESC", last);
    }
    const bool text = selection_.sort == "path" || selection_.sort == "name";
    return fmt::format(" ORDER BY {}{}{} NULLS LAST{}", selection_.sort,
                       text ? " COLLATE by_parts" : "", way, last);
  }

 private:
  std::string select(const std::string& columns, bool content) const {
    const auto half = [&](const Half& h) {
      return fmt::format("SELECT {} FROM {}{}{}{}", of(h, columns), h.table,
                         content ? h.content : "", h.where, of(h, where(h)));
    };
    return selection_.links ? half(kEntries) + " UNION ALL " + half(kLinks) : half(kEntries);
  }

  std::string where(const Half& half) const {
    std::string sql;
    const auto require = [&](const std::string& test) { sql += " AND " + test; };
    // NTFS has a record for the root, which is a folder in itself.
    require(selection_.system ? "e.name<>'.'" : "e.system=0");
    if (!selection_.secondary) require("s.name IS NULL");
    if (!names_.empty()) require(by_name(half));
    if (!endings_.empty()) require("e.kind='file' AND ending_matches({n}.name)");
    if (!selection_.types.empty()) require(one_of("coalesce(s.type, e.type)", selection_.types));
    if (!selection_.states.empty()) require(one_of("e.state", selection_.states));
    if (!selection_.kinds.empty()) require(one_of("e.kind", selection_.kinds));
    if (!selection_.volumes.empty()) {
      require(fmt::format("e.volume IN ({})", fmt::join(selection_.volumes, ",")));
    }
    if (!selection_.parents.empty()) {
      require(fmt::format("{}.parent IN ({})", half.names, fmt::join(selection_.parents, ",")));
    }
    if (selection_.trashed) require("e.trashed=1");
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
    if (const std::string chosen = chosen_by_id_and_path(half); !chosen.empty()) require(chosen);
    return sql;
  }

  static constexpr const char* kHasContent = "(e.kind='file' OR s.name IS NOT NULL)";

  // Names an entry has now, or had before.
  static std::string by_name(const Half& half) {
    std::string test = "name_matches({n}.name) OR (s.name IS NOT NULL AND name_matches(s.name))";
    if (!half.link) {
      test +=
          " OR e.id IN (SELECT entry FROM names WHERE kind='former' AND name_matches(name)) OR "
          "(e.original_path IS NOT NULL AND last_part_matches(e.original_path))";
    }
    return "(" + test + ")";
  }

  static std::string by_path(const Half& half) {
    std::string test = fmt::format("path_matches({})", kPath);
    if (!half.link) {
      test += fmt::format(
          " OR e.id IN (SELECT n.entry FROM names n WHERE n.kind='former' AND path_matches({})) OR "
          "(e.original_path IS NOT NULL AND path_matches(e.original_path))",
          kFormerPath);
    }
    return "(" + test + ")";
  }

  std::string chosen(const Half& half) const {
    std::vector<std::string> tests;
    if (!selection_.ids.empty()) {
      tests.push_back(fmt::format("e.id IN ({})", fmt::join(selection_.ids, ",")));
    }
    if (!paths_.empty()) tests.push_back(by_path(half));
    return fmt::format("{}", fmt::join(tests, " AND "));
  }

  std::string chosen_by_id_and_path(const Half& half) const {
    std::string all = chosen(half);
    if (all.empty() || !selection_.with_contents) return all;
    return fmt::format(
        "(({}) OR {}.parent IN (SELECT entry FROM temp.inside) OR e.id IN (SELECT "
        "entry FROM temp.inside))",
        all, half.names);
  }

  // The folders that were chosen by id or path, and those below them.
  void collect_contents() {
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

  SQLite::Database& db_;
  const Selection& selection_;
  std::vector<Glob> names_, paths_, last_parts_, endings_;
};

const std::string& row_columns() {
  static const std::string kColumns =
      std::string("e.id AS id, coalesce(s.id,0), e.volume AS volume, ") + kPath +
      " AS path, {n}.name_exact AND NOT {o} AND coalesce(f.exact,1), {n}.name AS name, e.kind AS "
      "kind, s.name, e.state AS state, e.marked_deleted, "
      "CASE WHEN e.kind='file' OR s.name IS NOT NULL THEN s.size END AS size, "
      "e.created AS created, e.modified AS modified, e.accessed AS accessed, e.deleted AS deleted, "
      "e.original_path, coalesce(s.type, e.type) AS type, s.rating AS rating, s.score AS score, "
      "s.intact_bytes AS intact_bytes, {n}.raw_name, {n}.parent, e.trashed, "
      "s.encoding='encrypted', s.placement, s.checked, s.format, s.sha256, e.id IN (SELECT entry "
      "FROM names WHERE kind='former')";
  return kColumns;
}

// Reads one row into `row`, whose memory is used again.
void read_row(SQLite::Statement& statement, Row& row) {
  int index = 0;
  const auto next = [&] { return statement.getColumn(index++); };
  const auto text = [](const SQLite::Column& column, std::string& out) {
    out.assign(column.getText(), static_cast<size_t>(column.getBytes()));
  };
  row.id = id_of<EntryId>(next());
  row.stream_id = id_of<StreamId>(next());
  row.volume = maybe_id<VolumeId>(next());
  text(next(), row.path);
  row.path_exact = next().getInt() != 0;
  text(next(), row.name);
  text(next(), row.kind);
  row.stream = maybe_text(next());
  text(next(), row.state);
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
  const Query query(shelf, selection);
  std::string sql = query.select(row_columns() + ", '{n}'='n' AS link") + query.order();
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

TotalsByLoss total_by_loss(const Shelf& shelf, const Selection& selection) {
  const Query query(shelf, selection);
  // The order tells which rows a limit leaves.
  std::string rows =
      selection.limit
          ? query.select(row_columns() + ", '{n}'='n' AS link, s.name AS stream") + query.order() +
                fmt::format(" LIMIT {}", *selection.limit)
          : query.select(
                "e.kind AS kind, s.name AS stream, s.rating AS rating, '{n}'='n' AS link, "
                "CASE WHEN e.kind='file' OR s.name IS NOT NULL THEN s.size END AS size");
  SQLite::Statement row(
      shelf.db(), fmt::format("SELECT rating IS 'gone', kind='file', stream IS NOT NULL, link, "
                              "coalesce(size,0) FROM ({})",
                              rows));
  // Grouped here: the database would sort all rows for it.
  TotalsByLoss totals;
  while (row.executeStep()) {
    const bool file = row.getColumn(1).getInt() != 0;
    const bool stream = row.getColumn(2).getInt() != 0;
    const bool gone = row.getColumn(0).getInt() != 0 && (file || stream);
    const bool link = row.getColumn(3).getInt() != 0;
    const uint64_t size = size_of(row.getColumn(4));
    Totals& part = gone ? totals.gone : totals.others;
    (stream ? part.streams : file ? part.files : part.folders) += 1;
    if (link && file && !stream) ++part.links;
    part.bytes += size;
    if (link) part.link_bytes += size;
  }
  return totals;
}

Totals total_rows(const Shelf& shelf, const Selection& selection) {
  const auto [gone, others] = total_by_loss(shelf, selection);
  return {gone.files + others.files,     gone.folders + others.folders,
          gone.streams + others.streams, gone.links + others.links,
          gone.bytes + others.bytes,     gone.link_bytes + others.link_bytes};
}

std::vector<VolumeFiles> files_by_volume(const Shelf& shelf) {
  Selection files;
  files.kinds = {"file"};
  const Query query(shelf, files);
  SQLite::Statement row(shelf.db(),
                        query.select_names("e.volume, e.state='live', e.state='deleted', "
                                           "e.state='former', e.state='live' AND e.trashed=1"));
  std::map<VolumeId, VolumeFiles> counts;
  while (row.executeStep()) {
    const VolumeId volume = id_of<VolumeId>(row.getColumn(0));  // 0: what lies on no volume
    VolumeFiles& count = counts.try_emplace(volume, VolumeFiles{volume}).first->second;
    count.live += row.getColumn(1).getInt();
    count.deleted += row.getColumn(2).getInt();
    count.former += row.getColumn(3).getInt();
    count.trashed += row.getColumn(4).getInt();
  }
  std::vector<VolumeFiles> found;
  for (const auto& [volume, count] : counts) found.push_back(count);
  return found;
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
