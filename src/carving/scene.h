// What carving goes by: who holds what, and where files seem to begin. For the room's own use.
#pragma once

#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "model/ids.h"
#include "placing/claims.h"

namespace undershelf {
class Shelf;
}

namespace undershelf::carving {

// A lost file with a name that breaks off where it was thought to lie, though its first cluster and
// its size are known.
struct Named {
  StreamId stream{};
  EntryId entry{};
  uint64_t size = 0;      // bytes
  uint64_t cluster = 0;   // bytes
  uint64_t sound_to = 0;  // bytes of it that add up where it was thought to lie
};

// A place at which a file seems to begin.
struct Start {
  uint64_t offset = 0;  // byte of the source
  std::optional<Named> named;
  uint64_t breaks_at = 0;        // byte of the source, where what begins there stops being sound
  std::string_view breaks_as{};  // the format of what breaks off there; empty: nothing does
  bool is_open = true;           // to be looked at, or looked at again
  bool was_cut = false;          // more would have been read than one start may cost
};

struct Scene {
  std::vector<ByteRange> living;   // what living files and file systems hold
  std::vector<ByteRange> sound;    // what lost files hold that are sound
  std::set<std::string> contents;  // SHA-256 of lost files with names that do not break off
  std::set<uint64_t> adding_up;    // where lost files begin that add up to their ends
  std::vector<Start> starts;       // in order; none in what is living, or sound in a lost file
};

// Of the source. `size`: its bytes.
Scene load_scene(Shelf& shelf, const Claims& claims, uint64_t size);

}  // namespace undershelf::carving
