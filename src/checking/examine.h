// One file looked at to its end: what it is, and how far it is sound.
#pragma once

#include <array>
#include <cstdint>

#include "content/describe.h"
#include "content/walk.h"

namespace undershelf::checking {

// Where a file goes on behind what is not its own.
struct Cut {
  uint64_t at = 0;   // byte of the file; 0: none
  uint64_t gap = 0;  // bytes that are left out there
};
constexpr size_t kMostCuts = 3;

// What was found; travels between processes as it is.
struct Examined {
  std::array<char, 16>
      format{};  // a word of content/walk.h, ended by NUL; empty: none that is known
  content::Level level = content::Level::unknown;
  uint64_t sound_to = 0;  // bytes from the beginning that add up
  // A sentence: of `broken`, and of `consistent`, as content::Walk has it; of `unknown`, if it was
  // no answer.
  std::array<char, 120> why{};
  uint8_t hashed = 0;             // 1: all bytes could be read
  std::array<char, 65> sha256{};  // of all bytes, hexadecimal, ended by NUL
  uint64_t end = 0;       // byte behind its last, where its structure says where that is; else 0
  uint64_t part_end = 0;  // of `broken`: content::stated_end of the part in which it breaks off
  content::Description says;
  std::array<Cut, kMostCuts> cuts{};  // of `rejoin`; those there are come first

  void forget_hash() {
    hashed = 0;
    sha256 = {};
  }

  // Whether a cluster of another file inside would have been noticed, nearly always.
  bool notices_foreign_clusters() const {
    return level == content::Level::consistent && why[0] == 0 &&
           content::notices_foreign_clusters(format.data());
  }
};

// Recognises, walks, decodes where only that tells, and hashes. `verified` stays so only if nothing
// but zeros follows the end.
Examined examine(content::Bytes& bytes);
// Likewise, but what is broken is not hashed.
Examined examine_if_sound(content::Bytes& bytes);
// Likewise of what begins there and breaks off: seeks where it goes on, in what follows, at
// multiples of `cluster` bytes, and where each format says that it may. As examine_start if it is
// nowhere.
Examined rejoin(content::Bytes& bytes, uint64_t cluster);
// What begins there and may be followed by what is not its own: is walked to its end, which is
// told, and then looked at as a file of that length: also hashed so. What has no end is not hashed,
// and says of itself what stands in its sound part.
Examined examine_start(content::Bytes& bytes);

}  // namespace undershelf::checking
