#include "access/spaces.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include "access/content.h"
#include "model/budget.h"
#include "shelf/rows.h"
#include "source/metered.h"
#include "stream/stream_source.h"

namespace undershelf {
namespace {

// A space of no bytes: the file is gone from the shelf, or the shelf is damaged.
SourcePtr nothing() {
  return std::make_shared<StreamSource>(StreamReader(nullptr, {}, {}, 0, 0, {}), 512);
}

}  // namespace

Spaces::Spaces(const Shelf& shelf, SourcePtr source, Budget* budget)
    : shelf_(shelf), budget_(budget) {
  if (budget != nullptr) source = std::make_shared<MeteredSource>(std::move(source), *budget);
  opened_.emplace(SpaceId::source, std::move(source));
}

const SourcePtr& Spaces::at(SpaceId space) {
  const auto known = opened_.find(space);
  if (known != opened_.end()) return known->second;
  // A damaged shelf may have a file lie on itself.
  opened_.emplace(space, nothing());
  return opened_[space] = open(image_of(space));
}

const SourcePtr& Spaces::of_volume(VolumeId volume) {
  const auto [known, fresh] = of_volumes_.try_emplace(volume, SpaceId::source);
  if (fresh) {
    SQLite::Statement row(shelf_.db(), "SELECT space FROM volumes WHERE id=?");
    row.bind(1, number_of(volume));
    if (row.executeStep()) known->second = id_of<SpaceId>(row.getColumn(0));
  }
  return at(known->second);
}

SourcePtr Spaces::open(EntryId entry) {
  SQLite::Statement row(shelf_.db(),
                        "SELECT s.id, e.volume FROM streams s JOIN entries e ON e.id=s.entry "
                        "WHERE e.id=? AND s.name IS NULL");
  row.bind(1, number_of(entry));
  if (!row.executeStep()) return nothing();
  const SourcePtr& below = of_volume(id_of<VolumeId>(row.getColumn(1)));
  StreamReader stream =
      ContentOpener(shelf_, *this).open_as_stored(id_of<StreamId>(row.getColumn(0)));
  SourcePtr file = std::make_shared<StreamSource>(std::move(stream), below->sector_size());
  if (budget_ != nullptr) file = std::make_shared<MeteredSource>(std::move(file), *budget_);
  return file;
}

std::vector<SpaceId> spaces_of(const Shelf& shelf) {
  std::vector<SpaceId> spaces = {SpaceId::source};
  // Volumes are stored after those on which they lie.
  SQLite::Statement row(shelf.db(),
                        "SELECT space FROM volumes WHERE space<>0 GROUP BY space ORDER BY min(id)");
  while (row.executeStep()) spaces.push_back(id_of<SpaceId>(row.getColumn(0)));
  return spaces;
}

}  // namespace undershelf
