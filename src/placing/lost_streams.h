// Lost streams as placing needs them, and what their times say of each other.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <unordered_map>
#include <unordered_set>
#include <vector>

#include "content/types.h"
#include "model/ids.h"
#include "model/pieces.h"
#include "model/time.h"
#include "placing/contiguous.h"

namespace undershelf {

class Shelf;

struct Times {
  std::optional<Time> created, modified;
  bool folder = false;
  bool live = false;
  // When its content was last known to be written.
  std::optional<Time> written() const { return std::max(created, modified); }
};

struct LostStream {
  StreamId id{};
  EntryId entry{};
  VolumeId volume{};
  int64_t parent = 0;  // entry of its folder; minus the volume for the root
  uint64_t first = 0;
  uint64_t first_step = 0;  // see Stream::first_step
  bool guessed = false;     // `first` was chosen among candidates
  uint64_t size = 0;
  Pieces hint;
  Times times;
  const Format* format = nullptr;
  bool live = false;         // was not deleted: only its chain is lost
  bool former = false;       // of a former volume
  bool fixed = false;        // its place, `hint`, is recorded: it is only in the others' way
  bool overwritten = false;  // a younger lost file starts inside it
  mutable std::optional<HeadMatch> head;  // once it was looked at
  uint64_t end = 0;                       // where it was placed ends, if that is not exact

  int64_t born() const {
    const auto time = times.created ? times.created : times.modified;
    return time ? time->ticks : 0;
  }
};

// Whether a holder's place was never the lost file's, because both were there at the same time. It
// was if the holder was last written to before the lost file was. Where that is a tie, as times are
// recorded in steps of two seconds, creation decides. All else counts against the lost file.
bool stood_beside(const Times& holder, const Times& lost);
// Whether both were written to for a while, at the same time.
bool grew_together(const Times& a, const Times& b);
// Whether the younger one was begun while the older one was still being written.
bool was_begun_during(const LostStream& younger, const LostStream& older);

using Grids = std::unordered_map<VolumeId, ClusterGrid>;
Grids grids_of(const Shelf& shelf);

// What is to be placed in a space, and what has its place and is only in the way of that.
struct LostStreams {
  std::vector<LostStream> all;
  // Volumes whose driver keeps the high half of a deleted entry's first cluster.
  std::unordered_set<VolumeId> keep_high_half;
};
// By space (VolumeRecord::space), of those in which something is to be placed. `grids`: of all
// volumes.
std::map<SpaceId, LostStreams> load_lost_streams(const Shelf& shelf, const Grids& grids);

}  // namespace undershelf
