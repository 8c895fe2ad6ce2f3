#include "exporting/content.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <filesystem>

#include "model/error.h"
#include "shelf/rows.h"
#include "stream/storage_row.h"

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

ContentOpener::ContentOpener(const Shelf& shelf, SourcePtr source)
    : shelf_(shelf),
      source_(std::move(source)),
      row_(std::make_unique<SQLite::Statement>(
          shelf.db(),
          "SELECT pieces, coalesce(inline_data,x''), size, valid_size, "
          "coalesce(overwritten,0), codec, coalesce(unit,0) FROM streams WHERE id=?")) {}
ContentOpener::~ContentOpener() = default;

StreamReader ContentOpener::open(int64_t stream_id) {
  SQLite::Statement& row = *row_;
  row.reset();
  row.bind(1, stream_id);
  if (!row.executeStep()) return {source_, {}, {}, 0, 0, {}};
  const Pieces pieces = pieces_of(row.getColumn(0));
  std::vector<ByteRange> overwritten;
  if (row.getColumn(4).getInt64() > 0) {
    if (!claims_) claims_ = load_claims(shelf_);
    for (const Piece& piece : pieces) {
      if (piece.kind != Piece::Kind::range) continue;
      claims_->each_overlap(
          {piece.offset, piece.length},
          [&](const Claim&, const ByteRange& shared) { overwritten.push_back(shared); });
    }
  }
  return {source_,
          pieces,
          row.getColumn(1).getString(),
          size_of(row.getColumn(2)),
          size_of(row.getColumn(3)),
          overwritten,
          storage_of(row.getColumn(5), row.getColumn(6))};
}

}  // namespace undershelf
