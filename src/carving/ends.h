// Whether a find ends where its structure says, by what stands behind it. For the room's own use.
#pragma once

#include <cstdint>
#include <vector>

#include "carving/find.h"
#include "source/source.h"

namespace undershelf {
class Shelf;
}

namespace undershelf::carving {

// Whether its structure alone says where it ends, and nothing bears that out.
bool is_end_unsure(const Find& find);

// Whether something else stands behind it than its end, and nothing vouches for its bytes.
bool seems_to_go_on(const Find& find);

// What stands behind the ends of files that lie where they are said to.
struct SeenEnds {
  uint64_t zeros = 0, more = 0;  // files
};

// Of named files that are `whole`, living or lost: of some hundred at most.
SeenEnds seen_ends(const Shelf& shelf, const Source& source);

// Takes out of `finds` those that seem to go on, if `seen` and those that are vouched for show that
// sectors are filled here. They are to be sought in pieces.
Finds take_what_goes_on(Finds& finds, SeenEnds seen);

}  // namespace undershelf::carving
