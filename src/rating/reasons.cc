#include "rating/reasons.h"

#include <fmt/format.h>

#include <optional>

#include "model/text.h"
#include "rating/stream_row.h"
#include "shelf/losses.h"
#include "shelf/rows.h"
#include "shelf/shelf.h"
#include "shelf/volume_table.h"

namespace undershelf {
namespace {

// The byte of its space at which byte `at` of a plain stream lies.
std::optional<uint64_t> place_of(const Pieces& pieces, uint64_t at) {
  for (const Piece& piece : pieces) {
    if (at < piece.length) {
      if (piece.kind != Piece::Kind::range) return std::nullopt;
      return piece.offset + at;
    }
    at -= piece.length;
  }
  return std::nullopt;
}

bool holds(const Pieces& pieces, uint64_t place) {
  for (const Piece& piece : pieces) {
    if (piece.kind == Piece::Kind::range && place >= piece.offset &&
        place - piece.offset < piece.length) {
      return true;
    }
  }
  return false;
}

// Who else is known to hold that byte: living ones first, then the last that was written.
std::string sentence_on_holder(const Shelf& shelf, const StreamRow& stream, uint64_t place) {
  SQLite::Statement row(shelf.db(), R"sql(
    SELECT s.pieces, e.id, coalesce(f.path||'/','')||e.name, e.state='live'
    FROM streams s JOIN entries e ON e.id=s.entry LEFT JOIN volumes v ON v.id=e.volume
      LEFT JOIN folder_paths f ON f.entry=e.parent
    WHERE coalesce(v.space,0)=? AND s.id<>? AND e.kind='file' AND e.merged_into IS NULL
      AND length(s.pieces)>0
    ORDER BY e.state='live' DESC, coalesce(e.modified, e.created) DESC)sql");
  row.bind(1, number_of(stream.space));
  row.bind(2, number_of(stream.id));
  while (row.executeStep()) {
    if (!holds(pieces_of(row.getColumn(0)), place)) continue;
    return fmt::format("Where it breaks off lies what the {} file {} (id {}) holds{}.",
                       row.getColumn(3).getInt() != 0 ? "living" : "lost",
                       printable(row.getColumn(2).getString()), row.getColumn(1).getInt64(),
                       row.getColumn(3).getInt() != 0 ? "" : ", as far as is known");
  }
  return {};
}

}  // namespace

std::vector<std::string> reasons_of(const Shelf& shelf, StreamId id) {
  SQLite::Statement row(shelf.db(), std::string(StreamRow::kSelect) + " AND s.id=?");
  row.bind(1, number_of(id));
  if (!row.executeStep()) return {};
  Columns columns(row);
  StreamRow stream(columns, VolumeTable(shelf));
  for (const Loss& loss : load_losses(shelf.db(), id)) {
    stream.facts.lost[static_cast<size_t>(loss.cause)] += loss.length;
  }
  std::vector<std::string> reasons;
  rate(stream.facts, format_by_name(stream.name), &reasons);
  if (stream.facts.check == content::Level::broken && stream.storage.codec == Codec::none) {
    if (const auto place = place_of(stream.pieces, stream.facts.sound_to)) {
      std::string holder = sentence_on_holder(shelf, stream, *place);
      if (!holder.empty()) reasons.push_back(std::move(holder));
    }
  }
  return reasons;
}

}  // namespace undershelf
