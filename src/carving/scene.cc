#include "carving/scene.h"

#include <SQLiteCpp/SQLiteCpp.h>

#include <algorithm>

#include "carving/taken.h"
#include "content/walk.h"
#include "shelf/rows.h"
#include "shelf/shelf.h"
#include "shelf/traces.h"

namespace undershelf::carving {
namespace {

using content::Level;

// Lost files with names: what of them is sound is theirs, and goes to `held` too.
void load_lost(SQLite::Database& db, Scene& scene, Taken& held) {
  SQLite::Statement row(db, R"sql(
    SELECT s.pieces, s.checked, s.rating, coalesce(s.sound_to,0), s.sha256, s.size,
      s.first
    FROM streams s JOIN entries e ON e.id=s.entry JOIN volumes v ON v.id=e.volume
    WHERE v.space=0 AND e.state<>'live' AND e.merged_into IS NULL AND e.kind='file'
      AND s.encoding='plain' AND length(s.pieces)>0)sql");
  while (row.executeStep()) {
    const auto level = content::level_named(row.getColumn(1).getText());
    const std::string_view rating = row.getColumn(2).getText();
    const bool is_good = rating == "whole" || rating == "likely";
    const bool is_sound = level == Level::verified || (level == Level::consistent && is_good);
    if (level != Level::broken && !row.getColumn(4).isNull()) {
      scene.contents.insert(row.getColumn(4).getString());
    }
    uint64_t its_own = 0;
    if (is_sound || (level == Level::unknown && is_good)) its_own = size_of(row.getColumn(5));
    if (level == Level::broken) its_own = size_of(row.getColumn(3));
    for (const Piece& piece : truncated(pieces_of(row.getColumn(0)), its_own)) {
      if (piece.kind != Piece::Kind::range) continue;
      const ByteRange range{piece.offset, piece.length};
      held.add(range);
      if (is_sound) scene.sound.push_back(range);
    }
    if (level == Level::consistent && !row.getColumn(6).isNull()) {
      scene.adding_up.insert(size_of(row.getColumn(6)));
    }
  }
  held.settle();
}

void load_named(SQLite::Database& db, Scene& scene) {
  SQLite::Statement row(db, R"sql(
    SELECT s.first, s.id, e.id, s.size, v.cluster_size, coalesce(s.sound_to,0)
    FROM streams s JOIN entries e ON e.id=s.entry JOIN volumes v ON v.id=e.volume
    WHERE s.checked='broken' AND s.open=1 AND s.placement IN ('inferred','guessed')
      AND s.codec IS NULL AND s.encoding='plain' AND s.valid_size=s.size AND v.space=0
      AND v.cluster_size>0 AND s.first IS NOT NULL AND e.state<>'live'
      AND e.merged_into IS NULL)sql");
  while (row.executeStep()) {
    const Named named{id_of<StreamId>(row.getColumn(1)), id_of<EntryId>(row.getColumn(2)),
                      size_of(row.getColumn(3)), size_of(row.getColumn(4)),
                      size_of(row.getColumn(5))};
    scene.starts.push_back({size_of(row.getColumn(0)), named});
  }
}

}  // namespace

Scene load_scene(Shelf& shelf, const Claims& claims, uint64_t size) {
  Scene scene;
  Taken living, lost;
  if (const auto found = claims.find(SpaceId::source); found != claims.end()) {
    found->second.each_overlap({0, UINT64_MAX}, [&](const Claim& claim, const ByteRange&) {
      scene.living.push_back(claim.range);
      living.add(claim.range);
    });
  }
  living.settle();
  load_lost(shelf.db(), scene, lost);
  load_named(shelf.db(), scene);
  for (const Trace& trace : SweepStore(shelf).traces(kContentStarts, kStartTrace)) {
    const uint64_t offset = trace.offset;
    if (offset < size && !living.contains(offset) && !lost.contains(offset)) {
      scene.starts.push_back({offset, {}});
    }
  }
  // One with a name comes before the same place without one.
  std::ranges::sort(scene.starts, {}, [](const Start& start) {
    return std::pair(start.offset, start.named ? start.named->stream : StreamId{INT64_MAX});
  });
  const auto last =
      std::unique(scene.starts.begin(), scene.starts.end(),
                  [](const Start& a, const Start& b) { return a.offset == b.offset && !b.named; });
  scene.starts.erase(last, scene.starts.end());
  return scene;
}

}  // namespace undershelf::carving
