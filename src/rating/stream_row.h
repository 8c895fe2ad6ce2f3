// A stream as the rating looks at it. For the rating folder's own use.
#pragma once

#include <string>

#include "model/ids.h"
#include "model/pieces.h"
#include "rating/rating.h"
#include "shelf/rows.h"

namespace undershelf {

class VolumeTable;

struct StreamRow {
  // The query it is a row of; conditions may follow.
  static const char* const kSelect;

  StreamRow(Columns& row, const VolumeTable& volumes);

  StreamId id;
  EntryId entry;
  VolumeId volume;
  SpaceId space;
  uint64_t valid_size;
  Pieces pieces;
  bool keeps_chain;  // a chain that was left in place: it keeps its own clusters in use
  bool scattered;
  Storage storage;
  std::string name;
  std::string rating;  // as it is stored; empty if it is not
  int score;
  uint64_t intact_bytes;
  Facts facts;
};

}  // namespace undershelf
