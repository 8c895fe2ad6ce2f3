// What volumes lie on, as bytes that can be read: the source itself, or a file on one of its
// volumes that is a disk image. All that the shelf says of places on such a volume counts in its
// space.
#pragma once

#include <cstdint>
#include <map>
#include <vector>

#include "model/ids.h"
#include "shelf/shelf.h"
#include "source/source.h"

namespace undershelf {

class Budget;

// Not to be shared between threads; what it opens may be.
class Spaces {
 public:
  // `budget`: if not null, all that is read is charged to it; must outlive what is opened.
  Spaces(const Shelf& shelf, SourcePtr source, Budget* budget = nullptr);

  // The bytes of a space (VolumeRecord::space); of none that there is: no bytes at all.
  const SourcePtr& at(SpaceId space);
  // Those on which a volume lies.
  const SourcePtr& of_volume(VolumeId volume);

 private:
  SourcePtr open(EntryId entry);

  const Shelf& shelf_;
  Budget* budget_;
  std::map<SpaceId, SourcePtr> opened_;     // by number
  std::map<VolumeId, SpaceId> of_volumes_;  // number, by volume
};

// The numbers of all spaces on which volumes lie: the source first, a file after what it lies on.
std::vector<SpaceId> spaces_of(const Shelf& shelf);

}  // namespace undershelf
