#include "access/places.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>

#include "shelf/rows.h"

namespace undershelf {

Places places_of(const Shelf& shelf, const Selection& selection) {
  Places places;
  SQLite::Statement stream(
      shelf.db(),
      "SELECT s.pieces, coalesce(v.space,0), s.size FROM streams s JOIN entries "
      "e ON e.id=s.entry LEFT JOIN volumes v ON v.id=e.volume WHERE s.id=?");
  std::vector<ByteRange> all;
  each_place(shelf, selection, [&](const Row& row) {
    if (row.stream_id == StreamId{}) return true;
    stream.reset();
    stream.bind(1, number_of(row.stream_id));
    if (!stream.executeStep()) return true;
    const bool here = id_of<SpaceId>(stream.getColumn(1)) == SpaceId::source;
    const size_t before = all.size();
    bool is_inline = false;
    for (const Piece& piece : here ? pieces_of(stream.getColumn(0)) : Pieces()) {
      is_inline = is_inline || piece.kind == Piece::Kind::inline_bytes;
      if (piece.kind == Piece::Kind::range) all.push_back({piece.offset, piece.length});
    }
    const bool known = all.size() > before || is_inline || size_of(stream.getColumn(2)) == 0;
    ++(known ? places.files : places.elsewhere);
    return true;
  });
  std::ranges::sort(all, {}, &ByteRange::offset);
  for (const ByteRange& range : all) {
    if (!places.ranges.empty() && places.ranges.back().end() >= range.offset) {
      ByteRange& last = places.ranges.back();
      last.length = std::max(last.end(), range.end()) - last.offset;
    } else {
      places.ranges.push_back(range);
    }
  }
  return places;
}

}  // namespace undershelf
