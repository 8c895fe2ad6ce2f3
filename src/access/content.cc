#include "access/content.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <filesystem>

#include "model/error.h"
#include "shelf/losses.h"
#include "shelf/rows.h"
#include "shelf/storage_row.h"
#include "source/nbd.h"
#include "stream/stream.h"

namespace undershelf {

SourcePtr open_scanned_source(const Shelf& shelf, const std::string& path,
                              const std::string& through) {
  const SourceIdentity known = shelf.source();
  const std::string& where = path.empty() ? known.path : path;
  if (path.empty() && !is_nbd(where) && !std::filesystem::exists(where)) {
    throw Error(Failure::unavailable,
                fmt::format("The source {} is no longer there. If it was moved, say where it is "
                            "with --source PATH.",
                            where));
  }
  SourcePtr source = open_source(where, known.skip, through);
  if (const std::string how = difference(known, *source, where, !path.empty()); !how.empty()) {
    throw Error(Failure::unavailable,
                fmt::format("{} is not the source this shelf describes: {}. Give the right one "
                            "with --source PATH, or scan this one into a new shelf.",
                            where, how));
  }
  return source;
}

ContentOpener::ContentOpener(const Shelf& shelf, Spaces& spaces)
    : shelf_(shelf),
      spaces_(spaces),
      row_(std::make_unique<SQLite::Statement>(
          shelf.db(),
          "SELECT pieces, coalesce(inline_data,x''), coalesce(size,0), coalesce(valid_size,0), "
          "codec, coalesce(unit,0), coalesce(intact_bytes,0) FROM streams WHERE id=?")),
      volume_(std::make_unique<SQLite::Statement>(
          shelf.db(),
          "SELECT volume FROM entries WHERE id=(SELECT entry FROM streams WHERE id=?)")) {}
ContentOpener::~ContentOpener() = default;

std::optional<VolumeId> ContentOpener::volume_of(StreamId stream) {
  volume_->reset();
  volume_->bind(1, number_of(stream));
  if (!volume_->executeStep()) return std::nullopt;
  return maybe_id<VolumeId>(volume_->getColumn(0));
}

StreamReader ContentOpener::open(StreamId stream, std::optional<VolumeId> volume,
                                 bool with_losses) {
  SQLite::Statement& row = *row_;
  row.reset();
  row.bind(1, number_of(stream));
  if (!row.executeStep()) return {spaces_.at(SpaceId::source), {}, {}, 0, 0, {}};
  const uint64_t size = size_of(row.getColumn(2));
  Losses losses;
  if (with_losses && size_of(row.getColumn(6)) < size) losses = load_losses(shelf_.db(), stream);
  return {spaces_.of_volume(volume.value_or(VolumeId{})),
          pieces_of(row.getColumn(0)),
          row.getColumn(1).getString(),
          size,
          size_of(row.getColumn(3)),
          std::move(losses),
          storage_of(row.getColumn(4), row.getColumn(5))};
}

}  // namespace undershelf
