#include "placing/lost_streams.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <algorithm>

#include "shelf/rows.h"
#include "shelf/shelf.h"

namespace undershelf {

bool stood_beside(const Times& holder, const Times& lost) {
  if (holder.folder) {
    // A deleted folder's cluster that still holds the folder never held the file's content. A
    // living one changes its time with each entry in it; its clusters came early.
    return !holder.live || (holder.created && lost.written() && holder.created <= lost.written());
  }
  if (!holder.written() || !lost.written()) return false;
  if (holder.written() != lost.written()) return *holder.written() < *lost.written();
  if (!holder.created || !lost.created || holder.created == lost.created) return false;
  return *holder.created < *lost.created || *holder.created < *lost.written();
}

bool grew_together(const Times& a, const Times& b) {
  constexpr int64_t kStep = 4 * kTicksPerSecond;  // what times may hide
  if (!a.created || !a.modified || !b.created || !b.modified) return false;
  return std::max(*a.created, *b.created).ticks + kStep < std::min(*a.modified, *b.modified).ticks;
}

bool was_begun_during(const LostStream& younger, const LostStream& older) {
  return younger.times.created && older.times.created && older.times.modified &&
         *younger.times.created > *older.times.created &&
         *younger.times.created <= *older.times.modified;
}

Grids grids_of(const Shelf& shelf) {
  Grids grids;
  for (const VolumeRecord& record : shelf.volumes(false)) {
    const Volume& v = record.volume;
    grids[record.id] = {v.heap_offset, v.cluster_size,
                        v.heap_offset + v.cluster_count * v.cluster_size};
  }
  return grids;
}

namespace {

// What is to be placed, or (`fixed`) has its place: the latter in spaces with some of the former.
void load(SQLite::Database& db, const Grids& grids, const char* which, bool fixed,
          std::map<SpaceId, LostStreams>& by_space) {
  SQLite::Statement row(db, fmt::format(R"sql(
    SELECT s.id, s.entry, e.volume, s.first, s.size, {}, e.created, e.modified, e.name,
           coalesce(s.first_step,0), coalesce(e.parent,-e.volume), e.state='live',
           e.marked_deleted, e.state='former', v.space
    FROM streams s JOIN entries e ON e.id=s.entry JOIN volumes v ON v.id=e.volume
    WHERE {} AND e.merged_into IS NULL)sql",
                                        fixed ? "s.pieces" : "s.hint", which));
  while (row.executeStep()) {
    const SpaceId space = id_of<SpaceId>(row.getColumn(14));
    if (fixed && !by_space.contains(space)) continue;
    LostStreams& lost = by_space[space];
    LostStream s;
    s.fixed = fixed;
    s.id = id_of<StreamId>(row.getColumn(0));
    s.entry = id_of<EntryId>(row.getColumn(1));
    s.volume = id_of<VolumeId>(row.getColumn(2));
    s.first = size_of(row.getColumn(3));
    s.size = size_of(row.getColumn(4));
    s.hint = pieces_of(row.getColumn(5));
    s.times.created = maybe_time(row.getColumn(6));
    s.times.modified = maybe_time(row.getColumn(7));
    s.format = &format_by_name(row.getColumn(8).getText());
    s.first_step = size_of(row.getColumn(9));
    s.former = row.getColumn(13).getInt() != 0;
    s.live = row.getColumn(11).getInt() != 0 || (s.former && row.getColumn(12).getInt() == 0);
    if (fixed && s.size == 0) s.size = total_length(s.hint);
    s.parent = row.getColumn(10).getInt64();
    // A deleted entry that kept the high half of its first cluster tells how its driver deletes.
    const ClusterGrid& grid = grids.at(s.volume);
    if (s.first_step == 0 && row.getColumn(12).getInt() != 0 &&
        s.first >= grid.heap_offset + grid.high_step()) {
      lost.keep_high_half.insert(s.volume);
    }
    lost.all.push_back(std::move(s));
  }
}

}  // namespace

std::map<SpaceId, LostStreams> load_lost_streams(SQLite::Database& db, const Grids& grids) {
  std::map<SpaceId, LostStreams> lost;
  load(db, grids, "s.open=1", false, lost);
  if (lost.empty()) return lost;
  load(db, grids,
       "s.open=0 AND s.first IS NOT NULL AND s.size>0 AND e.kind='file' AND e.state<>'live'", true,
       lost);
  // Folders of former volumes lie in their files' way as the files themselves do.
  load(db, grids,
       "s.open=0 AND s.name IS NULL AND length(s.pieces)>0 AND e.kind='folder' AND "
       "e.state='former'",
       true, lost);
  return lost;
}

}  // namespace undershelf
