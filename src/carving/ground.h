// Who holds which bytes while carving goes on, and how large clusters are. For the room's own use.
#pragma once

#include <cstdint>
#include <map>
#include <memory>

#include "carving/find.h"
#include "carving/grid.h"
#include "carving/scene.h"
#include "carving/taken.h"

namespace undershelf::carving {

// Of what begins in the sound part of something that breaks off, what is taken for a part of that:
// while it is sought all of it, and in the end frames of recordings, as parts of a picture book may
// be what can be saved.
enum class Parts : uint8_t { all, of_recordings };

class Ground {
 public:
  // `scene`: must outlive it.
  Ground(const Shelf& shelf, const Scene& scene) : shelf_(shelf), scene_(scene) {}

  // Anew, for the finds there are now. To be called before anything is asked.
  void settle(const Finds& finds, Parts parts);

  const ClusterGrids& grids() const { return *grids_; }
  // What no fragment of what is sought can be; and of a chain that is gone on with, which may lead
  // over the rests of chains.
  const Taken& taken() const { return taken_; }
  const Taken& taken_for_chains() const { return taken_for_chains_; }

  // What begins in a find need not be looked at.
  void cover(const Find& find);
  bool is_covered(uint64_t offset) const;

 private:
  void take(Taken& taken, const ByteRange& range) const;

  const Shelf& shelf_;
  const Scene& scene_;
  std::unique_ptr<ClusterGrids> grids_;
  Taken taken_, taken_for_chains_;
  std::map<uint64_t, uint64_t> inside_;  // of finds: where they end, by where they begin
};

}  // namespace undershelf::carving
