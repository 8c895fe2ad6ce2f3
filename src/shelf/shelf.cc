#include "shelf/shelf.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>
#include <sqlite3.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <filesystem>
#include <tuple>

#include "model/error.h"
#include "model/time.h"
#include "shelf/rows.h"
#include "shelf/schema.h"
#include "shelf/totals.h"

namespace undershelf {
namespace {

std::vector<std::string> split_lines(const std::string& text) {
  std::vector<std::string> lines;
  for (size_t at = 0; at < text.size();) {
    const size_t end = std::min(text.find('\n', at), text.size());
    lines.push_back(text.substr(at, end - at));
    at = end + 1;
  }
  return lines;
}

// Whether a writer that was killed left what it changed in the file itself.
bool has_hot_journal(const std::string& path) {
  std::error_code error;
  const uint64_t size = std::filesystem::file_size(path + "-journal", error);
  return !error && size > 0;
}

[[noreturn]] void not_a_shelf(const std::string& path, const std::string& why) {
  throw Error(Failure::unavailable,
              fmt::format("{} is not a shelf that can be read: {}. Give the file that `undershelf "
                          "scan` wrote.",
                          path, why));
}

// Counts of its memory, which nobody asks for, cost SQLite a lock at each allocation. Refused, and
// no harm, once it is in use.
int without_memory_counts(int flags) {
  [[maybe_unused]] static const int kOnce = sqlite3_config(SQLITE_CONFIG_MEMSTATUS, 0);
  return flags;
}

}  // namespace

// A shelf is used by one thread at a time, so that SQLite need not guard each call.
Shelf::Shelf(const std::string& path, int flags, const std::string& vfs)
    : db_(std::make_unique<SQLite::Database>(
          path, without_memory_counts(flags) | SQLite::OPEN_NOMUTEX, 5000, vfs)) {}
Shelf::Shelf(Shelf&&) noexcept = default;
Shelf::~Shelf() = default;

// Left to itself, SQLite puts large sorts into a folder of the system, which may lie on the source.
// They go beside the shelf, or, where nothing may be written there, stay in memory.
void Shelf::keep_temporary_files_near(const std::string& path) {
  const std::string parent = std::filesystem::path(path).parent_path().string();
  const std::string folder = parent.empty() ? "." : parent;
  if (::access(folder.c_str(), W_OK | X_OK) != 0) {
    db_->exec("PRAGMA temp_store=MEMORY");
    return;
  }
  sqlite3_free(sqlite3_temp_directory);
  sqlite3_temp_directory = sqlite3_mprintf("%s", folder.c_str());
}

void Shelf::prepare(const std::string& path) {
  keep_temporary_files_near(path);
  db_->exec("PRAGMA cache_size=-65536");
  db_->exec("PRAGMA synchronous=NORMAL");
  // Pages that pass after pass writes go from the log to their places each 64 MiB, not each 8.
  db_->exec("PRAGMA wal_autocheckpoint=8192");
}

Shelf Shelf::create(const std::string& path, const SourceIdentity& source,
                    const ReadingRecord& reading) {
  try {
    Shelf shelf(path, SQLite::OPEN_READWRITE | SQLite::OPEN_CREATE);
    shelf.prepare(path);
    shelf.db().exec("PRAGMA page_size=8192");
    // All at once: what was begun and not ended is an empty file, and is begun anew.
    SQLite::Transaction transaction(shelf.db());
    shelf.db().exec(fmt::format("PRAGMA application_id={}", kShelfApplicationId));
    shelf.db().exec(fmt::format("PRAGMA user_version={}", kShelfVersion));
    shelf.db().exec(kSchema);
    SQLite::Statement row(shelf.db(), "INSERT INTO source VALUES(?,?,?,?,?,?,?)");
    row.bind(1, source.path);
    row.bind(2, static_cast<int64_t>(source.skip));
    row.bind(3, static_cast<int64_t>(source.size));
    row.bind(4, static_cast<int64_t>(source.sector_size));
    row.bind(5, reading.time_zone);
    row.bind(6, reading.code_page);
    row.bind(7, source.serial);
    row.exec();
    SQLite::Statement block(shelf.db(), "INSERT INTO source_blocks VALUES(?,?,?)");
    for (const BlockHash& hash : source.blocks) {
      block.bind(1, static_cast<int64_t>(hash.range.offset));
      block.bind(2, static_cast<int64_t>(hash.range.length));
      block.bind(3, hash.sha256);
      block.exec();
      block.reset();
    }
    transaction.commit();
    shelf.db().exec("PRAGMA journal_mode=WAL");
    return shelf;
  } catch (const SQLite::Exception& e) {
    if (e.getErrorCode() == SQLITE_FULL) throw;
    throw Error(Failure::refused,
                fmt::format("The shelf {} cannot be written: {}. Choose a folder that exists and "
                            "may be written to.",
                            path, e.what()));
  }
}

void Shelf::roll_back(const std::string& path) {
  if (!has_hot_journal(path)) return;
  try {
    SQLite::Database db(path, SQLite::OPEN_READWRITE);
    db.execAndGet("PRAGMA application_id");
  } catch (const SQLite::Exception&) {
    // What is no shelf is told as such.
  }
}

bool Shelf::is_shelf(const std::string& path) {
  try {
    SQLite::Database db(path, SQLite::OPEN_READONLY);
    return db.execAndGet("PRAGMA application_id").getInt() == kShelfApplicationId;
  } catch (const SQLite::Exception&) {
    return false;
  }
}

namespace {

void require_shelf(const std::string& path, SQLite::Database& db) {
  if (db.execAndGet("PRAGMA application_id").getInt() != kShelfApplicationId) {
    not_a_shelf(path, "it is another program's file");
  }
  // What reads it is to read rows, and to run nothing that a file brings.
  const int foreign =
      db.execAndGet(fmt::format("SELECT count(*) FROM sqlite_schema WHERE type='trigger' OR "
                                "(name IN ({}) AND (type<>'table' OR sql LIKE 'CREATE VIRTUAL%'))",
                                kTableNames))
          .getInt();
  if (foreign > 0) not_a_shelf(path, "what should be its tables is something else");
  const int version = db.execAndGet("PRAGMA user_version").getInt();
  if (version != kShelfVersion) {
    throw Error(
        Failure::unavailable,
        fmt::format("The shelf {} was made by another version of the program (the shelf's is "
                    "{}, this one reads {}). Scan the source again, under another name or "
                    "with --replace, which keeps the old shelf beside the new one.",
                    path, version, kShelfVersion));
  }
}

[[noreturn]] void killed_while_writing(const std::string& path) {
  throw Error(Failure::unavailable,
              fmt::format("The scan into {} was killed while it wrote to its file. Give the same "
                          "call of `undershelf scan` again: it mends the shelf, and goes on.",
                          path));
}

void require_file(const std::string& path) {
  std::error_code error;
  const auto status = std::filesystem::status(path, error);
  if (!std::filesystem::exists(status)) {
    throw Error(Failure::unavailable,
                fmt::format("There is no shelf {}. Make one with `undershelf scan SOURCE --shelf "
                            "{}`.",
                            path, path));
  }
  if (std::filesystem::is_directory(status)) not_a_shelf(path, "it is a folder");
}

}  // namespace

// What a killed scan left, in a folder where nothing may be written: its log cannot be shared with
// others, and its index is kept in memory. Nobody scans into it now, who would have left more
// there.
Shelf Shelf::open_with_leftover_log(const std::string& path) {
  Shelf shelf(path, SQLite::OPEN_READONLY, "unix-none");
  shelf.db().exec("PRAGMA locking_mode=EXCLUSIVE");
  shelf.prepare(path);
  require_shelf(path, shelf.db());
  return shelf;
}

Shelf Shelf::open_to_read(const std::string& path) {
  require_file(path);
  try {
    try {
      Shelf shelf(path, SQLite::OPEN_READONLY);
      shelf.prepare(path);
      require_shelf(path, shelf.db());
      return shelf;
    } catch (const SQLite::Exception& e) {
      if (has_hot_journal(path)) killed_while_writing(path);
      const bool leftover = e.getErrorCode() == SQLITE_CANTOPEN &&
                            std::filesystem::exists(path + "-wal") &&
                            !std::filesystem::exists(path + "-shm");
      if (!leftover) throw;
    }
    return open_with_leftover_log(path);
  } catch (const SQLite::Exception& e) {
    not_a_shelf(path, e.what());
  }
}

Shelf Shelf::open_to_write(const std::string& path) {
  require_file(path);
  try {
    Shelf shelf(path, SQLite::OPEN_READWRITE);
    shelf.prepare(path);
    require_shelf(path, shelf.db());
    shelf.db().exec("PRAGMA journal_mode=WAL");
    return shelf;
  } catch (const SQLite::Exception& e) {
    not_a_shelf(path, e.what());
  }
}

SourceIdentity Shelf::source() const {
  SourceIdentity identity;
  SQLite::Statement row(*db_, "SELECT path, skip, size, sector_size, serial FROM source");
  if (row.executeStep()) {
    identity.path = row.getColumn(0).getString();
    identity.skip = size_of(row.getColumn(1));
    identity.size = size_of(row.getColumn(2));
    identity.sector_size = row.getColumn(3).getUInt();
    identity.serial = row.getColumn(4).getString();
  }
  SQLite::Statement block(*db_, "SELECT offset, length, sha256 FROM source_blocks");
  while (block.executeStep()) {
    identity.blocks.push_back({{size_of(block.getColumn(0)), size_of(block.getColumn(1))},
                               block.getColumn(2).getString()});
  }
  return identity;
}

ReadingRecord Shelf::reading() const {
  SQLite::Statement row(*db_, "SELECT time_zone, code_page FROM source");
  if (!row.executeStep()) return {};
  return {row.getColumn(0).getString(), row.getColumn(1).getString()};
}

std::vector<ScanRecord> Shelf::scans() const {
  std::vector<ScanRecord> scans;
  SQLite::Statement row(*db_,
                        "SELECT depth, checked, state, started, coalesce(ended,''), gaps "
                        "FROM scans ORDER BY id");
  while (row.executeStep()) {
    scans.push_back({row.getColumn(0), row.getColumn(1), row.getColumn(2), row.getColumn(3),
                     row.getColumn(4), size_of(row.getColumn(5))});
  }
  return scans;
}

std::vector<VolumeRecord> Shelf::volumes(bool counted) const {
  std::vector<VolumeRecord> volumes;
  SQLite::Statement row(*db_, R"sql(
    SELECT id, file_system, standing, label, serial, offset, length, sector_size, cluster_size,
           heap_offset, cluster_count, confidence, inside, notes, used, space
    FROM volumes ORDER BY id)sql");
  while (row.executeStep()) {
    VolumeRecord record;
    Volume& v = record.volume;
    const auto size = [&](int i) { return size_of(row.getColumn(i)); };
    record.id = id_of<VolumeId>(row.getColumn(0));
    v.file_system = row.getColumn(1).getString();
    v.standing = row.getColumn(2).getString();
    v.label = row.getColumn(3).getString();
    v.serial = row.getColumn(4).getString();
    v.offset = size(5);
    v.length = size(6);
    v.sector_size = row.getColumn(7).getUInt();
    v.cluster_size = row.getColumn(8).getUInt();
    v.heap_offset = size(9);
    v.cluster_count = size(10);
    v.confidence = row.getColumn(11).getInt();
    record.inside = maybe_id<EntryId>(row.getColumn(12));
    v.notes = split_lines(row.getColumn(13).getString());
    if (!row.getColumn(14).isNull()) v.used = size(14);
    record.space = id_of<SpaceId>(row.getColumn(15));
    volumes.push_back(std::move(record));
  }
  if (!counted) return volumes;
  for (const VolumeFiles& files : files_by_volume(*this)) {
    const auto record = std::ranges::find(volumes, files.volume, &VolumeRecord::id);
    if (record == volumes.end()) continue;
    record->live = files.live;
    record->deleted = files.deleted;
    record->former = files.former;
    record->trashed = files.trashed;
  }
  // What is there now, what can be believed, and what is no file's content, comes first; then, what
  // holds most.
  const auto rank = [](const VolumeRecord& record) {
    constexpr int kDoubtful = 50;
    const Volume& v = record.volume;
    const bool in_file = record.inside || record.space != SpaceId::source;
    return std::tuple(v.standing != "current", v.confidence < kDoubtful, in_file,
                      -(record.live + record.deleted + record.former), -v.confidence, record.id);
  };
  std::ranges::sort(volumes, {}, rank);
  return volumes;
}

uint64_t Shelf::damage_count() const {
  return static_cast<uint64_t>(db_->execAndGet("SELECT count(*) FROM damage").getInt64());
}

std::vector<std::string> Shelf::damage_sentences(uint64_t most) const {
  std::vector<std::string> sentences;
  SQLite::Statement row(*db_,
                        "SELECT d.what, d.offset, coalesce(v.space,0) FROM damage d "
                        "LEFT JOIN volumes v ON v.id=d.volume ORDER BY d.rowid LIMIT ?");
  row.bind(1, static_cast<int64_t>(most));
  while (row.executeStep()) {
    const auto space = id_of<SpaceId>(row.getColumn(2));
    sentences.push_back(
        fmt::format("{} (byte {}{})", row.getColumn(0).getString(), row.getColumn(1).getInt64(),
                    space == SpaceId::source ? "" : fmt::format(" of the file with id {}", space)));
  }
  return sentences;
}

int64_t Shelf::begin_scan(const std::string& depth, const std::string& check, uint64_t gaps) {
  SQLite::Statement row(
      *db_, "INSERT INTO scans(depth, checked, state, started, gaps) VALUES(?,?,'running',?,?)");
  row.bind(1, depth);
  row.bind(2, check);
  row.bind(3, to_rfc3339(current_time()));
  row.bind(4, static_cast<int64_t>(gaps));
  row.exec();
  return db_->getLastInsertRowid();
}

bool Shelf::end_scan(int64_t scan, const std::string& state) {
  // All of it is in the file before the scan counts as ended: a disk that is full says so here.
  take_in_log();
  SQLite::Statement row(*db_, "UPDATE scans SET state=?, ended=? WHERE id=?");
  row.bind(1, state);
  row.bind(2, to_rfc3339(current_time()));
  row.bind(3, scan);
  row.exec();
  return leave_log();
}

bool Shelf::leave_log() {
  if (!take_in_log()) return false;
  try {
    // The way out of the log changes some bytes of the first page. A journal of those would lie
    // beside the shelf if it was killed then, and readers could not do without it.
    return db_->execAndGet("PRAGMA journal_mode=MEMORY").getString() == "memory";
  } catch (const SQLite::Exception& e) {
    if (e.getErrorCode() != SQLITE_BUSY && e.getErrorCode() != SQLITE_LOCKED) throw;
    return false;
  }
}

bool Shelf::take_in_log() {
  return db_->execAndGet("PRAGMA wal_checkpoint(TRUNCATE)").getInt() == 0;
}

}  // namespace undershelf
