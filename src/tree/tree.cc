#include "tree/tree.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>
#include <map>
#include <string>
#include <unordered_map>
#include <vector>

#include "shelf/rows.h"
#include "shelf/shelf.h"

namespace undershelf {
namespace {

// Paths longer than this come from damage only; deeper folders are cut off as orphans. All paths
// together are held in memory: once they come to so much, only short ones are made.
constexpr size_t kMostPathBytes = 32768;
constexpr size_t kMostInAll = 256 << 20, kMostThen = 512;

struct Folder {
  std::optional<EntryId> parent;
  std::string name;
  bool exact = true;
  bool orphan = false;
  enum { todo, doing, done } progress = todo;
  std::string path;
};

// Joins what `wanting` selects (id, volume, key of the parent) to its folders, by `joining`.
void adopt(SQLite::Database& db, const char* wanting, const char* joining) {
  std::map<std::pair<VolumeId, uint64_t>, EntryId> by_key;
  SQLite::Statement folder(db,
                           "SELECT volume, key, coalesce(merged_into, id) FROM entries "
                           "WHERE kind='folder' AND volume IS NOT NULL");
  bool loaded = false;
  SQLite::Statement orphan(db, wanting);
  SQLite::Statement join(db, joining);
  std::vector<std::pair<EntryId, EntryId>> found;
  while (orphan.executeStep()) {
    while (!loaded && folder.executeStep()) {
      by_key[{id_of<VolumeId>(folder.getColumn(0)), size_of(folder.getColumn(1))}] =
          id_of<EntryId>(folder.getColumn(2));
    }
    loaded = true;
    const auto parent =
        by_key.find({id_of<VolumeId>(orphan.getColumn(1)), size_of(orphan.getColumn(2))});
    if (parent != by_key.end())
      found.emplace_back(parent->second, id_of<EntryId>(orphan.getColumn(0)));
  }
  for (const auto& [parent, child] : found) {
    join.bind(1, number_of(parent));
    join.bind(2, number_of(child));
    join.exec();
    join.reset();
  }
}

class Paths {
 public:
  explicit Paths(SQLite::Database& db) {
    SQLite::Statement row(db,
                          "SELECT id, parent, name, name_exact, orphan, merged_into "
                          "FROM entries WHERE kind='folder'");
    while (row.executeStep()) {
      const EntryId id = id_of<EntryId>(row.getColumn(0));
      if (!row.getColumn(5).isNull()) {
        merged_[id] = id_of<EntryId>(row.getColumn(5));
        continue;
      }
      Folder& folder = folders_[id];
      folder.parent = maybe_id<EntryId>(row.getColumn(1));
      folder.name = row.getColumn(2).getString();
      folder.exact = row.getColumn(3).getInt() != 0;
      folder.orphan = row.getColumn(4).getInt() != 0;
    }
  }

  // Works out every path. Returns the folders that turned out to be orphans.
  std::vector<EntryId> resolve() {
    std::vector<EntryId> cut;
    std::vector<EntryId> chain;
    // In the order of their numbers: which paths are cut where there are too many is no accident.
    std::vector<EntryId> ids;
    for (const auto& [id, folder] : folders_) ids.push_back(id);
    std::ranges::sort(ids);
    for (const EntryId id : ids) {
      for (std::optional<EntryId> next = id; next;) {
        const auto found = folders_.find(survivor(*next));
        if (found == folders_.end() || found->second.progress == Folder::done) break;
        if (found->second.progress == Folder::doing) {
          cut.push_back(found->first);  // it lies inside itself
          found->second.orphan = true;
          found->second.parent.reset();
          break;
        }
        found->second.progress = Folder::doing;
        chain.push_back(found->first);
        next = found->second.orphan ? std::nullopt : found->second.parent;
      }
      for (; !chain.empty(); chain.pop_back()) {
        if (!finish(folders_.at(chain.back()))) cut.push_back(chain.back());
      }
    }
    return cut;
  }

  const std::unordered_map<EntryId, Folder>& folders() const { return folders_; }

 private:
  EntryId survivor(EntryId id) const {
    // An entry is merged into one that is kept, or that was merged later itself.
    for (int steps = 0; steps < 64; ++steps) {
      const auto found = merged_.find(id);
      if (found == merged_.end()) break;
      id = found->second;
    }
    return id;
  }

  // False if its parent is missing or the path grows beyond all reason.
  bool finish(Folder& folder) {
    folder.progress = Folder::done;
    if (folder.orphan) {
      folder.path = "[orphans]/" + folder.name;
      folder.exact = false;
      return true;
    }
    if (!folder.parent) {
      folder.path = folder.name;
      return true;
    }
    const auto parent = folders_.find(survivor(*folder.parent));
    if (parent == folders_.end() || parent->second.progress != Folder::done ||
        parent->second.path.size() + folder.name.size() > most_path_bytes()) {
      folder.orphan = true;
      folder.path = "[orphans]/" + folder.name;
      folder.exact = false;
      return false;
    }
    folder.path = parent->second.path + "/" + folder.name;
    in_all_ += folder.path.size();
    folder.exact = folder.exact && parent->second.exact;
    return true;
  }

  size_t most_path_bytes() const { return in_all_ < kMostInAll ? kMostPathBytes : kMostThen; }

  std::unordered_map<EntryId, Folder> folders_;
  std::unordered_map<EntryId, EntryId> merged_;
  size_t in_all_ = 0;  // bytes of paths
};

}  // namespace

void build_tree(Shelf& shelf) {
  SQLite::Database& db = shelf.db();
  SQLite::Transaction transaction(db);
  adopt(db, "SELECT id, volume, parent_key FROM entries WHERE orphan=1 AND parent_key IS NOT NULL",
        "UPDATE entries SET parent=?, orphan=0 WHERE id=?");
  adopt(db,
        "SELECT n.id, e.volume, n.parent_key FROM names n JOIN entries e ON e.id=n.entry "
        "WHERE n.parent IS NULL AND n.parent_key IS NOT NULL",
        "UPDATE names SET parent=? WHERE id=?");
  db.exec(
      "UPDATE entries SET parent=(SELECT merged_into FROM entries p WHERE p.id=entries.parent) "
      "WHERE parent IN (SELECT id FROM entries WHERE merged_into IS NOT NULL)");
  Paths paths(db);
  SQLite::Statement cut(db, "UPDATE entries SET orphan=1, parent=NULL WHERE id=?");
  for (const EntryId id : paths.resolve()) {
    cut.bind(1, number_of(id));
    cut.exec();
    cut.reset();
  }
  db.exec("DELETE FROM folder_paths");
  SQLite::Statement row(db, "INSERT INTO folder_paths VALUES(?,?,?)");
  for (const auto& [id, folder] : paths.folders()) {
    row.bind(1, number_of(id));
    row.bindNoCopy(2, folder.path);
    row.bind(3, folder.exact ? 1 : 0);
    row.exec();
    row.reset();
  }
  transaction.commit();
}

}  // namespace undershelf
