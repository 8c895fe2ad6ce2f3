#include "tree/nested.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <optional>
#include <vector>

#include "shelf/rows.h"
#include "shelf/shelf.h"

namespace undershelf {
namespace {

// Byte of a stream at which a byte of the source lies; nothing if it is none of its own.
std::optional<uint64_t> place_in(const Pieces& pieces, uint64_t place) {
  uint64_t at = 0;
  for (const Piece& piece : pieces) {
    const bool here = piece.kind == Piece::Kind::range && place >= piece.offset &&
                      place - piece.offset < piece.length;
    if (here) return at + (place - piece.offset);
    at += piece.length;
  }
  return std::nullopt;
}

}  // namespace

void mark_nested_volumes(Shelf& shelf) {
  std::vector<VolumeRecord> volumes = shelf.volumes(false);
  std::erase_if(volumes, [](const VolumeRecord& v) { return v.volume.standing == "current"; });
  if (volumes.empty()) return;
  SQLite::Database& db = shelf.db();
  SQLite::Statement mark(db, "UPDATE volumes SET inside=? WHERE id=?");
  // A volume has some room for its tables besides; smaller files cannot hold one.
  SQLite::Statement row(db, R"sql(
    SELECT s.entry, s.size, s.pieces, e.volume FROM streams s JOIN entries e ON e.id=s.entry
    JOIN volumes v ON v.id=e.volume AND v.space=0
    WHERE e.kind='file' AND e.state<>'live' AND s.name IS NULL AND e.merged_into IS NULL
      AND e.system=0 AND s.size>=65536)sql");
  std::vector<std::pair<EntryId, VolumeId>> nested;
  while (row.executeStep()) {
    const uint64_t size = size_of(row.getColumn(1));
    const Pieces pieces = pieces_of(row.getColumn(2));
    for (const VolumeRecord& record : volumes) {
      const Volume& volume = record.volume;
      if (record.id == id_of<VolumeId>(row.getColumn(3))) continue;
      const auto at = place_in(pieces, volume.offset);
      // An image may have been cut short; a volume further in must fit.
      if (at && (*at == 0 || *at + volume.length <= size)) {
        nested.emplace_back(id_of<EntryId>(row.getColumn(0)), record.id);
      }
    }
  }
  SQLite::Transaction transaction(db);
  for (const auto& [entry, volume] : nested) {
    mark.bind(1, number_of(entry));
    mark.bind(2, number_of(volume));
    mark.exec();
    mark.reset();
  }
  transaction.commit();
}

}  // namespace undershelf
