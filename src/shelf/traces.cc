#include "shelf/traces.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <iterator>
#include <tuple>

#include "shelf/rows.h"
#include "shelf/schema.h"

namespace undershelf {
namespace {

constexpr int kOfTheSource = 0;  // in place of a volume's id
constexpr int kSetAside = -1;    // in `merged_into`

// Those of which `is_wanted` is true, by place, each once; a damaged row has none.
template <typename IsWanted>
std::vector<Trace> traces_if(SQLite::Database& db, std::string_view system, IsWanted is_wanted) {
  SQLite::Statement row(db, "SELECT packed FROM traces WHERE system=? ORDER BY rowid");
  row.bind(1, std::string(system));
  std::vector<Trace> found;
  while (row.executeStep()) {
    const auto traces = unpack_traces(bytes_of(row.getColumn(0)));
    if (traces) std::ranges::copy_if(*traces, std::back_inserter(found), is_wanted);
  }
  const auto key = [](const Trace& trace) {
    return std::tuple(trace.offset, trace.kind, trace.number);
  };
  if (!std::ranges::is_sorted(found, {}, key)) std::ranges::stable_sort(found, {}, key);
  const auto same = [&](const Trace& a, const Trace& b) { return key(a) == key(b); };
  found.erase(std::unique(found.begin(), found.end(), same), found.end());
  return found;
}

}  // namespace

std::optional<SweepRecord> SweepStore::record() const {
  SQLite::Statement row(shelf_.db(),
                        "SELECT begin, length, systems, position, unreadable, left_out FROM sweep");
  if (!row.executeStep()) return std::nullopt;
  SweepRecord record;
  record.range = {size_of(row.getColumn(0)), size_of(row.getColumn(1))};
  record.systems = row.getColumn(2).getString();
  record.position = size_of(row.getColumn(3));
  record.unreadable = size_of(row.getColumn(4));
  record.left_out = size_of(row.getColumn(5));
  return record;
}

void SweepStore::begin(const SweepRecord& record) {
  SQLite::Transaction transaction(shelf_.db());
  shelf_.db().exec(
      "DELETE FROM sweep; DELETE FROM swept; DELETE FROM traces; DELETE FROM damage WHERE "
      "volume=0");
  counts_.clear();
  SQLite::Statement row(shelf_.db(), "INSERT INTO sweep VALUES(?,?,?,?,0,0)");
  row.bind(1, static_cast<int64_t>(record.range.offset));
  row.bind(2, static_cast<int64_t>(record.range.length));
  row.bind(3, record.systems);
  row.bind(4, static_cast<int64_t>(record.position));
  row.exec();
  transaction.commit();
}

void SweepStore::begin_further(SweepRecord& record, const ByteRange& range) {
  SQLite::Transaction transaction(shelf_.db());
  shelf_.db().exec("INSERT INTO swept SELECT begin, position-begin FROM sweep");
  record.range = range;
  record.position = range.offset;
  SQLite::Statement row(shelf_.db(), "UPDATE sweep SET begin=?, length=?, position=?");
  row.bind(1, static_cast<int64_t>(range.offset));
  row.bind(2, static_cast<int64_t>(range.length));
  row.bind(3, static_cast<int64_t>(range.offset));
  row.exec();
  transaction.commit();
}

std::vector<ByteRange> not_swept(const Shelf& shelf, const ByteRange& range) {
  std::vector<ByteRange> left;
  SQLite::Statement row(shelf.db(),
                        "SELECT begin, length FROM swept UNION ALL SELECT begin, position-begin "
                        "FROM sweep ORDER BY begin");
  uint64_t at = range.offset;
  while (row.executeStep()) {
    const ByteRange done{size_of(row.getColumn(0)), size_of(row.getColumn(1))};
    const uint64_t until = std::min(done.offset, range.end());
    if (until > at) left.push_back({at, until - at});
    at = std::max(at, done.end());
  }
  if (range.end() > at) left.push_back({at, range.end() - at});
  return left;
}

void SweepStore::add(SweepRecord& record, std::span<const std::string> systems,
                     std::span<const std::vector<Trace>> traces,
                     std::span<const ByteRange> unreadable) {
  SQLite::Transaction transaction(shelf_.db());
  SQLite::Statement row(shelf_.db(), "INSERT INTO traces VALUES(?,?,?)");
  for (size_t i = 0; i < systems.size(); ++i) {
    const uint64_t known = count(systems[i]);
    const size_t kept = std::min(kMostTraces - std::min(kMostTraces, known), traces[i].size());
    record.left_out += traces[i].size() - kept;
    if (kept == 0) continue;
    counts_[systems[i]] += kept;
    const std::string packed = pack(std::span(traces[i]).first(kept));
    row.bindNoCopy(1, systems[i]);
    row.bind(2, static_cast<int64_t>(kept));
    row.bindNoCopy(3, packed.data(), static_cast<int>(packed.size()));
    row.exec();
    row.reset();
  }
  SQLite::Statement damage(shelf_.db(), "INSERT INTO damage VALUES(?,?,?,?)");
  for (const ByteRange& range : unreadable) {
    record.unreadable += range.length;
    damage.bind(1, kOfTheSource);
    damage.bind(2, static_cast<int64_t>(range.offset));
    damage.bind(3, static_cast<int64_t>(range.length));
    damage.bind(4, fmt::format("{} bytes of the source cannot be read.", range.length));
    damage.exec();
    damage.reset();
  }
  SQLite::Statement progress(shelf_.db(), "UPDATE sweep SET position=?, unreadable=?, left_out=?");
  progress.bind(1, static_cast<int64_t>(record.position));
  progress.bind(2, static_cast<int64_t>(record.unreadable));
  progress.bind(3, static_cast<int64_t>(record.left_out));
  progress.exec();
  transaction.commit();
}

std::vector<Trace> SweepStore::traces(std::string_view system, std::optional<uint32_t> kind) const {
  return traces_if(shelf_.db(), system,
                   [&](const Trace& trace) { return !kind || trace.kind == *kind; });
}

std::vector<Trace> SweepStore::numbered_traces(std::string_view system) const {
  return traces_if(shelf_.db(), system, [](const Trace& trace) { return trace.number != 0; });
}

void SweepStore::begin_anew() {
  SQLite::Transaction transaction(shelf_.db());
  shelf_.db().exec(
      "CREATE TABLE IF NOT EXISTS kept_checks(entry, name, size, pieces, checked, format, type, "
      "sound_to, why, sha256, says);"
      "INSERT INTO kept_checks SELECT entry, name, size, pieces, checked, format, type, sound_to, "
      "why, sha256, says FROM streams WHERE checked IS NOT NULL AND id NOT IN (SELECT stream FROM "
      "losses WHERE cause IN ('unread','unreadable'));"
      "UPDATE entries SET by_sweep=1 WHERE volume IS NOT NULL;"
      "UPDATE volumes SET by_sweep=1;"
      "DELETE FROM sweep; DELETE FROM swept; DELETE FROM traces");
  transaction.commit();
}

void SweepStore::restore_checks() {
  SQLite::Database& db = shelf_.db();
  if (!db.tableExists("kept_checks")) return;
  SQLite::Transaction transaction(db);
  db.exec(
      "CREATE INDEX IF NOT EXISTS kept_by_entry ON kept_checks(entry);"
      "UPDATE streams SET checked=k.checked, format=k.format, type=k.type, sound_to=k.sound_to, "
      "why=k.why, sha256=k.sha256, says=k.says FROM kept_checks k WHERE k.entry=streams.entry AND "
      "k.name IS streams.name AND k.size IS streams.size AND k.pieces=streams.pieces AND "
      "streams.checked IS NULL;"
      "DROP TABLE kept_checks");
  transaction.commit();
}

void SweepStore::begin_storing() {
  SQLite::Database& db = shelf_.db();
  SQLite::Transaction transaction(db);
  const std::string told = "SELECT id FROM entries WHERE by_sweep=1";
  for (const char* table : kTablesOfEntries) {
    db.exec(fmt::format("DELETE FROM {} WHERE entry IN ({})", table, told));
  }
  db.exec(
      fmt::format("UPDATE entries SET merged_into=NULL WHERE by_sweep=0 AND merged_into IN ({});"
                  "UPDATE entries SET merged_into={} WHERE by_sweep=1",
                  told, kSetAside));
  transaction.commit();
}

void SweepStore::end_storing(const std::set<VolumeId>& volumes) {
  SQLite::Database& db = shelf_.db();
  SQLite::Transaction transaction(db);
  const std::string lost = fmt::format("by_sweep=1 AND id NOT IN ({})", fmt::join(volumes, ","));
  db.exec(fmt::format(
      "DELETE FROM entries WHERE merged_into={0};"
      "DELETE FROM damage WHERE volume IN (SELECT id FROM volumes WHERE {1});"
      "DELETE FROM volumes WHERE {1};"
      "UPDATE entries SET parent=NULL, orphan=1 WHERE parent NOT IN (SELECT id FROM entries)",
      kSetAside, lost));
  transaction.commit();
}

uint64_t SweepStore::count(const std::string& system) {
  const auto [known, fresh] = counts_.try_emplace(system, 0);
  if (fresh) {
    SQLite::Statement row(shelf_.db(), "SELECT coalesce(sum(count),0) FROM traces WHERE system=?");
    row.bind(1, system);
    row.executeStep();
    known->second = size_of(row.getColumn(0));
  }
  return known->second;
}

}  // namespace undershelf
