#include "placing/lost_streams.h"

#include <SQLiteCpp/SQLiteCpp.h>
#include <fmt/format.h>

#include <algorithm>
#include <string_view>

#include "model/entry.h"
#include "shelf/rows.h"
#include "shelf/shelf.h"
#include "shelf/volume_table.h"

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
void load(const Shelf& shelf, const VolumeTable& volumes, const Grids& grids, const char* which,
          bool fixed, std::map<SpaceId, LostStreams>& by_space) {
  SQLite::Statement row(shelf.db(), fmt::format(R"sql(
    SELECT s.id, s.entry, e.volume, s.first, s.size, {}, e.created, e.modified, e.name,
           s.first_step, e.parent, e.state, e.marked_deleted
    FROM streams s JOIN entries e ON e.id=s.entry
    WHERE {} AND e.merged_into IS NULL)sql",
                                                fixed ? "s.pieces" : "s.hint", which));
  Columns columns(row);
  while (row.executeStep()) {
    const VolumeId volume = id_of<VolumeId>(columns[2]);
    const VolumeRecord* record = volumes.find(volume);
    if (record == nullptr || (fixed && !by_space.contains(record->space))) continue;
    LostStreams& lost = by_space[record->space];
    LostStream s;
    s.fixed = fixed;
    s.id = id_of<StreamId>(columns[0]);
    s.entry = id_of<EntryId>(columns[1]);
    s.volume = volume;
    s.first = size_of(columns[3]);
    s.size = size_of(columns[4]);
    s.hint = pieces_of(columns[5]);
    s.times.created = maybe_time(columns[6]);
    s.times.modified = maybe_time(columns[7]);
    s.format = &format_by_name(columns[8].getText());
    s.first_step = size_of(columns[9]);
    s.parent = columns[10].isNull() ? -number_of(volume) : columns[10].getInt64();
    const std::string_view state = columns[11].getText();
    const bool marked_deleted = columns[12].getInt() != 0;
    s.former = state == to_text(State::former);
    s.live = state == to_text(State::live) || (s.former && !marked_deleted);
    if (fixed && s.size == 0) s.size = total_length(s.hint);
    // A deleted entry that kept the high half of its first cluster tells how its driver deletes.
    const ClusterGrid& grid = grids.at(s.volume);
    if (s.first_step == 0 && marked_deleted && s.first >= grid.heap_offset + grid.high_step()) {
      lost.keep_high_half.insert(s.volume);
    }
    lost.all.push_back(std::move(s));
  }
}

}  // namespace

std::map<SpaceId, LostStreams> load_lost_streams(const Shelf& shelf, const Grids& grids) {
  std::map<SpaceId, LostStreams> lost;
  const VolumeTable volumes(shelf);
  load(shelf, volumes, grids, "s.open=1", false, lost);
  if (lost.empty()) return lost;
  // Folders of former volumes lie in their files' way as the files themselves do.
  load(shelf, volumes, grids, R"sql(
    s.open=0 AND e.state<>'live' AND
    ((e.kind='file' AND s.first IS NOT NULL AND s.size>0) OR
     (e.kind='folder' AND s.name IS NULL AND length(s.pieces)>0 AND e.state='former')))sql",
       true, lost);
  return lost;
}

}  // namespace undershelf
