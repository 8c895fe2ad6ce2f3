#include "carving/store.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <map>
#include <set>
#include <string>

#include "carving/ends.h"
#include "carving/names.h"
#include "checking/store.h"
#include "placing/found_place.h"
#include "shelf/schema.h"
#include "shelf/shelf.h"

namespace undershelf::carving {
namespace {

class CarvedStore {
 public:
  explicit CarvedStore(SQLite::Database& db)
      : db_(db),
        examined_(db),
        entry_(db, R"sql(
    INSERT INTO entries(volume, by_sweep, key, parent, orphan, kind, state, marked_deleted, proof,
      system, name, name_exact, type)
    VALUES(NULL,0,?,?,0,?,'carved',0,'last',0,?,0,?))sql"),
        stream_(db, R"sql(
    INSERT INTO streams(entry, size, valid_size, encoding, placement, open, scattered, first,
      pieces, stepped)
    VALUES(?1,?2,?2,'plain','content',0,0,?3,?4,?5))sql"),
        unsure_(db, "INSERT INTO evidence VALUES(?, 'end-unsure', 0)") {
    SQLite::Statement row(db, "SELECT key, id FROM entries WHERE state='carved' AND kind='file'");
    while (row.executeStep()) known_[row.getColumn(0).getInt64()] = row.getColumn(1).getInt64();
  }

  void add(const Find& find) {
    const std::string_view format = find.found.format.data();
    const std::string_view type = content::type_of(format);
    const int64_t folder = folder_of(type);
    const std::string name = free_name(folder, find);
    const auto key = static_cast<int64_t>(find.start);
    int64_t entry = 0;
    if (const auto known = known_.find(key); known != known_.end()) {
      entry = known->second;
      known_.erase(known);
      forget_streams(entry);
      SQLite::Statement rename(db_, "UPDATE entries SET name=?, parent=?, type=? WHERE id=?");
      rename.bind(1, name);
      rename.bind(2, folder);
      rename.bind(3, std::string(type));
      rename.bind(4, entry);
      rename.exec();
    } else {
      entry = add_entry(key, folder, "file", name, type);
    }
    const std::string packed = pack(find.pieces);
    stream_.bind(1, entry);
    stream_.bind(2, static_cast<int64_t>(find.length));
    stream_.bind(3, key);
    stream_.bindNoCopy(4, packed.data(), static_cast<int>(packed.size()));
    stream_.bind(5, static_cast<int64_t>(find.pieces.size() - 1));
    stream_.exec();
    stream_.reset();
    examined_.put(static_cast<StreamId>(db_.getLastInsertRowid()), find.found, find.length);
    if (is_end_unsure(find)) {
      unsure_.bind(1, entry);
      unsure_.exec();
      unsure_.reset();
    }
  }

  // What an earlier run found and this one did not.
  void drop_others() {
    for (const auto& [key, entry] : known_) {
      forget_streams(entry);
      db_.exec(fmt::format("DELETE FROM entries WHERE id={}", entry));
    }
    if (!known_.empty()) drop_empty_folders();
  }

 private:
  void drop_empty_folders() {
    for (int level = 0; level < 2; ++level) {  // of a type, then of all
      db_.exec(
          "DELETE FROM entries WHERE state='carved' AND kind='folder' AND id NOT IN "
          "(SELECT parent FROM entries WHERE state='carved' AND parent IS NOT NULL)");
    }
    db_.exec("DELETE FROM folder_paths WHERE entry NOT IN (SELECT id FROM entries)");
  }

  void forget_streams(int64_t entry) {
    db_.exec(
        fmt::format("DELETE FROM losses WHERE stream IN (SELECT id FROM streams WHERE "
                    "entry={0}); DELETE FROM streams WHERE entry={0}; "
                    "DELETE FROM evidence WHERE entry={0}",
                    entry));
  }

  int64_t add_entry(int64_t key, std::optional<int64_t> parent, const char* kind,
                    const std::string& name, std::string_view type) {
    entry_.bind(1, key);
    parent ? entry_.bind(2, *parent) : entry_.bind(2);
    entry_.bind(3, kind);
    entry_.bind(4, name);
    type.empty() ? entry_.bind(5) : entry_.bind(5, std::string(type));
    entry_.exec();
    entry_.reset();
    return db_.getLastInsertRowid();
  }

  // The folder of that name in `parent`, made up.
  int64_t folder(std::optional<int64_t> parent, const std::string& name) {
    SQLite::Statement row(db_,
                          "SELECT id FROM entries WHERE state='carved' AND kind='folder' AND "
                          "name=? AND parent IS ?");
    row.bind(1, name);
    parent ? row.bind(2, *parent) : row.bind(2);
    if (row.executeStep()) return row.getColumn(0).getInt64();
    const int64_t id = add_entry(0, parent, "folder", name, {});
    SQLite::Statement path(db_, R"sql(
      INSERT OR REPLACE INTO folder_paths
      SELECT ?1, coalesce((SELECT path||'/' FROM folder_paths WHERE entry=?2),'')||?3, 0)sql");
    path.bind(1, id);
    parent ? path.bind(2, *parent) : path.bind(2);
    path.bind(3, name);
    path.exec();
    return id;
  }

  int64_t folder_of(std::string_view type) {
    const auto known = folders_.find(type);
    if (known != folders_.end()) return known->second;
    const int64_t id = folder(folder({}, "[carved]"), std::string(type));
    folders_.emplace(type, id);
    return id;
  }

  // No two files of a folder have one name: of those that say the same of themselves, all but the
  // first say where they begin.
  std::string free_name(int64_t folder, const Find& find) {
    std::string name = name_of(find.found, find.start);
    if (!names_.emplace(folder, name).second) {
      const size_t dot = name.rfind('.');
      name.insert(dot, fmt::format(" ({})", find.start));
      names_.emplace(folder, name);
    }
    return name;
  }

  SQLite::Database& db_;
  checking::ExaminedStore examined_;
  SQLite::Statement entry_, stream_, unsure_;
  std::map<int64_t, int64_t> known_;  // entries of an earlier run, by the byte at which they begin
  std::map<std::string, int64_t, std::less<>> folders_;  // by type
  std::set<std::pair<int64_t, std::string>> names_;
};

}  // namespace

uint64_t store(Shelf& shelf, const Finds& finds, bool all) {
  SQLite::Transaction transaction(shelf.db());
  uint64_t files = 0;
  {
    CarvedStore carved(shelf.db());
    for (const auto& find : finds) {
      if (find->named) {
        keep_found_place(shelf.db(),
                         {find->named->stream, find->named->entry, find->named->size, find->pieces,
                          find->pieces.size() - 1, "rejoined-by-content", find->pieces.size()},
                         find->found);
      } else {
        carved.add(*find);
        ++files;
      }
    }
    if (all) carved.drop_others();
  }
  transaction.commit();
  return files;
}

}  // namespace undershelf::carving
