#include "carving/ends.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>
#include <iterator>

#include "content/walk.h"
#include "shelf/rows.h"
#include "shelf/shelf.h"

namespace undershelf::carving {
namespace {

using content::Level;

// Whether foreign bytes inside would have been noticed, and its end is its own.
bool is_vouched_for(const Find& find) {
  return find.is_verified() || (find.found.notices_foreign_clusters() &&
                                content::tells_its_end(find.found.format.data()));
}

void count(Behind behind, SeenEnds& seen) {
  seen.zeros += behind == Behind::zeros;
  seen.more += behind == Behind::more;
}

}  // namespace

bool is_end_unsure(const Find& find) {
  if (find.found.level != Level::consistent || is_vouched_for(find)) return false;
  // Of a chain in which foreign bytes are noticed, nothing but its end is open.
  if (find.found.notices_foreign_clusters() && find.behind == Behind::not_told) return false;
  return find.behind != Behind::zeros;
}

bool seems_to_go_on(const Find& find) {
  return is_end_unsure(find) && find.behind == Behind::more && !find.named &&
         content::tells_its_end(find.found.format.data());
}

SeenEnds seen_ends(const Shelf& shelf, const Source& source) {
  SQLite::Statement row(shelf.db(), R"sql(
    SELECT s.pieces, s.size FROM streams s JOIN entries e ON e.id=s.entry
    JOIN volumes v ON v.id=e.volume
    WHERE v.space=0 AND e.kind='file' AND s.name IS NULL AND s.encoding='plain'
      AND s.valid_size=s.size AND length(s.pieces)>0 AND e.merged_into IS NULL
      AND s.rating='whole'
    LIMIT 500)sql");
  SeenEnds seen;
  while (row.executeStep()) {
    const Pieces pieces = truncated(pieces_of(row.getColumn(0)), size_of(row.getColumn(1)));
    if (pieces.empty() || pieces.back().kind != Piece::Kind::range) continue;
    count(behind_end(pieces.back(), source), seen);
  }
  return seen;
}

// Not on all media: some drivers write the bytes of a file and leave what was behind them.
Finds take_what_goes_on(Finds& finds, SeenEnds seen) {
  // Tried on lives and cards (docs/recovery/content.md): from 1 to 8, and from 10 on, all the same.
  constexpr uint64_t kFewest = 8;
  constexpr uint64_t kOf = 10;  // of so many, one may be followed by something that was appended
  for (const auto& find : finds) {
    if (is_vouched_for(*find)) count(find->behind, seen);
  }
  if (seen.zeros < kFewest || seen.more * kOf > seen.zeros) return {};
  const auto first = std::stable_partition(finds.begin(), finds.end(),
                                           [](const auto& find) { return !seems_to_go_on(*find); });
  Finds taken(std::make_move_iterator(first), std::make_move_iterator(finds.end()));
  finds.erase(first, finds.end());
  return taken;
}

}  // namespace undershelf::carving
