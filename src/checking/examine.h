// One file looked at to its end: what it is, and how far it is sound.
#pragma once

#include <array>
#include <cstdint>

#include "content/walk.h"

namespace undershelf::checking {

// What was found; travels between processes as it is.
struct Examined {
  std::array<char, 16>
      format{};  // a word of content/walk.h, ended by NUL; empty: none that is known
  content::Level level = content::Level::unknown;
  uint64_t sound_to = 0;          // bytes from the beginning that add up
  std::array<char, 120> why{};    // of `broken`, a sentence; else of `unknown`, if it was no answer
  uint8_t hashed = 0;             // 1: all bytes could be read
  std::array<char, 65> sha256{};  // of all bytes, hexadecimal, ended by NUL
};

// Recognises, walks, decodes where only that tells, and hashes. `verified` stays so only if nothing
// but zeros follows the end.
Examined examine(content::Bytes& bytes);
// Likewise, but what is broken is not hashed.
Examined examine_if_sound(content::Bytes& bytes);

}  // namespace undershelf::checking
