// The row of a volume. For the library's own use.
#pragma once

#include "model/ids.h"
#include "model/volume.h"

namespace SQLite {
class Database;
}

namespace undershelf {

struct Origin;

// Stores a volume, and returns its id. One that is stored already (same place, layout and serial)
// keeps its row and id; if a sweep told of it, only the id.
VolumeId store_volume(SQLite::Database& db, const Volume& volume, const Origin& origin);

}  // namespace undershelf
