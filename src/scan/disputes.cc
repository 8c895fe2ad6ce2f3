#include "scan/disputes.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <algorithm>
#include <set>
#include <string>

#include "shelf/shelf.h"

namespace undershelf {

void note_disputes(Shelf& shelf, const Claims& claims) {
  constexpr size_t kMostTold = 100;
  SQLite::Database& db = shelf.db();
  db.exec("DELETE FROM damage WHERE volume IS NULL");
  SQLite::Statement row(db, "INSERT INTO damage VALUES(NULL, ?, ?, ?)");
  SQLite::Statement named(
      db,
      "SELECT coalesce(f.path||'/','')||e.name||' (id '||e.id||')' FROM entries e "
      "LEFT JOIN folder_paths f ON f.entry=e.parent WHERE e.id=?");
  const auto name_of = [&](EntryId entry) -> std::string {
    named.reset();
    named.bind(1, number_of(entry));
    return named.executeStep() ? named.getColumn(0).getString() : "the file system itself";
  };
  std::set<std::pair<EntryId, EntryId>> told;
  for (const auto& [space, map] : claims) {
    for (const Dispute& dispute : map.disputes()) {
      if (told.size() >= kMostTold) return;
      if (!told.insert(std::minmax(dispute.first, dispute.second)).second) continue;
      row.bind(1, static_cast<int64_t>(dispute.range.offset));
      row.bind(2, static_cast<int64_t>(dispute.range.length));
      row.bind(3, fmt::format("{} and {} both claim the same clusters.", name_of(dispute.first),
                              name_of(dispute.second)));
      row.exec();
      row.reset();
    }
  }
}

}  // namespace undershelf
