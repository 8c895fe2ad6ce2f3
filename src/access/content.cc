#include "access/content.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <filesystem>

#include "model/error.h"
#include "shelf/losses.h"
#include "shelf/rows.h"
#include "shelf/storage_row.h"
#include "stream/stream.h"

namespace undershelf {

SourcePtr open_scanned_source(const Shelf& shelf, const std::string& path) {
  const SourceIdentity known = shelf.source();
  const std::string& where = path.empty() ? known.path : path;
  if (path.empty() && !std::filesystem::exists(where)) {
    throw Error(Failure::unavailable,
                fmt::format("The source {} is no longer there. If it was moved, say where it is "
                            "with --source PATH.",
                            where));
  }
  SourcePtr source = open_source(where, known.skip);
  if (const std::string how = difference(known, *source); !how.empty()) {
    throw Error(Failure::unavailable,
                fmt::format("{} is not the source this shelf describes: {}. Give the right one "
                            "with --source PATH, or scan this one into a new shelf.",
                            where, how));
  }
  return source;
}

StoredStreams::StoredStreams(const Shelf& shelf)
    : row_(std::make_unique<SQLite::Statement>(
          shelf.db(),
          "SELECT pieces, coalesce(inline_data,x''), coalesce(size,0), coalesce(valid_size,0), "
          "codec, coalesce(unit,0) FROM streams WHERE id=?")) {}
StoredStreams::~StoredStreams() = default;

StreamReader StoredStreams::open(int64_t stream_id, const SourcePtr& space, Losses losses) {
  SQLite::Statement& row = *row_;
  row.reset();
  row.bind(1, stream_id);
  if (!row.executeStep()) return {space, {}, {}, 0, 0, {}};
  return {space,
          pieces_of(row.getColumn(0)),
          row.getColumn(1).getString(),
          size_of(row.getColumn(2)),
          size_of(row.getColumn(3)),
          std::move(losses),
          storage_of(row.getColumn(4), row.getColumn(5))};
}

ContentOpener::ContentOpener(const Shelf& shelf, SourcePtr source)
    : shelf_(shelf),
      spaces_(shelf, std::move(source)),
      streams_(shelf),
      row_(std::make_unique<SQLite::Statement>(
          shelf.db(),
          "SELECT coalesce(e.volume,0), coalesce(s.intact_bytes,0)<coalesce(s.size,0) "
          "FROM streams s JOIN entries e ON e.id=s.entry WHERE s.id=?")) {}
ContentOpener::~ContentOpener() = default;

StreamReader ContentOpener::open(int64_t stream_id) {
  SQLite::Statement& row = *row_;
  row.reset();
  row.bind(1, stream_id);
  if (!row.executeStep()) return streams_.open(stream_id, spaces_.at(kOnSource));
  Losses losses;
  if (row.getColumn(1).getInt() != 0) losses = load_losses(shelf_.db(), stream_id);
  return streams_.open(stream_id, spaces_.of_volume(row.getColumn(0).getInt64()),
                       std::move(losses));
}

}  // namespace undershelf
