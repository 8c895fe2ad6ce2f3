// Entries by the paths that are shown of them, and what lies in a folder.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "model/ids.h"
#include "shelf/selection.h"

namespace undershelf {

// Those that are listed under a path: parts joined by `/`, one more in front or behind does no
// harm; that of a stream is its entry's. Of a path that none has exactly, those are meant that have
// it without regard to case and composition, or had it before. Several lost files may have one
// path. A row each, by id; goes through the whole shelf.
std::vector<Row> entries_at(const Shelf& shelf, const std::string& path);

// Visits what lies in a folder, not what lies deeper, in order of names, until `visit` returns
// false: main streams only, further hard links too.
void each_child(const Shelf& shelf, EntryId folder, const std::function<bool(const Row&)>& visit);

}  // namespace undershelf
