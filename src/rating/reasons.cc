#include "rating/reasons.h"

#include "rating/stream_row.h"
#include "shelf/losses.h"
#include "shelf/shelf.h"

namespace undershelf {

std::vector<std::string> reasons_of(const Shelf& shelf, StreamId id) {
  SQLite::Statement row(shelf.db(), std::string(StreamRow::kSelect) + " AND s.id=?");
  row.bind(1, number_of(id));
  if (!row.executeStep()) return {};
  StreamRow stream(row);
  for (const Loss& loss : load_losses(shelf.db(), id)) {
    stream.facts.lost[static_cast<size_t>(loss.cause)] += loss.length;
  }
  std::vector<std::string> reasons;
  rate(stream.facts, format_by_name(stream.name), &reasons);
  return reasons;
}

}  // namespace undershelf
