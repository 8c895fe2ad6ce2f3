// Of files that break off: whether the rest is overwritten, discarded or behind the medium, and how
// far what there is reaches. For the room's own use.
#pragma once

#include <cstdint>
#include <optional>

#include "carving/find.h"
#include "carving/grid.h"
#include "carving/taken.h"
#include "source/source.h"

namespace undershelf::carving {

struct Surroundings {
  const Source& source;
  const ClusterGrids& grids;
  const Taken& taken;  // what others hold
  uint64_t next;       // byte of the source at which the next recording without lengths begins
};

// Whether it may be one at all: what is there of it must be worth having. `there`: bytes that
// follow its start and may be its own.
bool may_be_cut_short(const checking::Examined& found, uint64_t there);

// Whether what adds up ends in blank space, though files of its format do not, and nothing in it
// vouches for every byte: it is cut short too.
bool ends_blank(const Find& find, FreeBytes& bytes);

// How many bytes of it are there: those that add up, and what is left of the part in which it
// breaks off, if that leads to where nothing more of it can be; without what is blank at the end of
// either. Nothing if it leads to what may be another's. `may_read`: bytes that may still be read;
// is made less.
std::optional<uint64_t> length_there(const Find& find, const Surroundings& around,
                                     uint64_t& may_read);

}  // namespace undershelf::carving
