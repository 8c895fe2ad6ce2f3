#include "shelf/volume_row.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <optional>

#include "shelf/rows.h"
#include "shelf/writer.h"

namespace undershelf {

VolumeId store_volume(SQLite::Database& db, const Volume& v, const Origin& origin) {
  SQLite::Statement known(
      db,
      "SELECT id, by_sweep FROM volumes WHERE offset=? AND file_system=? AND standing=? "
      "AND heap_offset=? AND cluster_size=? AND serial=? AND space=?");
  known.bind(1, static_cast<int64_t>(v.offset));
  known.bind(2, v.file_system);
  known.bind(3, v.standing);
  known.bind(4, static_cast<int64_t>(v.heap_offset));
  known.bind(5, static_cast<int64_t>(v.cluster_size));
  known.bind(6, v.serial);
  known.bind(7, number_of(origin.space));
  std::optional<VolumeId> id;
  if (known.executeStep()) {
    id = id_of<VolumeId>(known.getColumn(0));
    if (known.getColumn(1).getInt() == 0) return *id;
  }
  known.reset();
  SQLite::Statement row(
      db,
      "INSERT OR REPLACE INTO volumes(file_system, standing, label, serial, offset, "
      "length, sector_size, cluster_size, heap_offset, cluster_count, "
      "confidence, notes, structures, id, used, by_sweep, space) "
      "VALUES(?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)");
  row.bind(1, v.file_system);
  row.bind(2, v.standing);
  row.bind(3, v.label);
  row.bind(4, v.serial);
  row.bind(5, static_cast<int64_t>(v.offset));
  row.bind(6, static_cast<int64_t>(v.length));
  row.bind(7, static_cast<int64_t>(v.sector_size));
  row.bind(8, static_cast<int64_t>(v.cluster_size));
  row.bind(9, static_cast<int64_t>(v.heap_offset));
  row.bind(10, static_cast<int64_t>(v.cluster_count));
  row.bind(11, v.confidence);
  row.bind(12, fmt::format("{}", fmt::join(v.notes, "\n")));
  Pieces held;
  for (const ByteRange& range : v.structures) {
    append_piece(held, {Piece::Kind::range, range.offset, range.length});
  }
  const std::string structures = pack(held);
  row.bind(13, structures.data(), static_cast<int>(structures.size()));
  if (id) row.bind(14, number_of(*id));
  if (v.used) row.bind(15, static_cast<int64_t>(*v.used));
  row.bind(16, origin.by == ToldBy::sweep ? 1 : 0);
  row.bind(17, number_of(origin.space));
  row.exec();
  return static_cast<VolumeId>(db.getLastInsertRowid());
}

}  // namespace undershelf
