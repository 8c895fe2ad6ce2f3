// How often lost files with such evidence come back byte for byte: a logistic regression over the
// evidence, made monotone. It is fitted to volumes whose truth is known; odds_table.inc holds what
// tools/fit_odds.cc made of them.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <string_view>

#include "rating/rating.h"

namespace undershelf {

// What the fit looks at: each is 0 or 1, but for `clusters`.
enum class Clue : uint8_t {
  inferred,               // its first cluster is recorded, and the rest taken to follow
  guessed,                // its first cluster is not wholly recorded
  stepped,                // placed around clusters that were in use
  scattered,              // it was in pieces, or grew while a file beside it did
  former,                 // of a volume that is no more
  unsure_proof,           // Proof::unsure
  old_proof,              // Proof::old
  kept_inline,            // its bytes stand in its own record
  empty,                  // it was empty when its record was written
  clusters,               // the more of them, the likelier one is another's: log2(n) / 8
  rivalled,               // an older lost file claims some of it too
  younger,                // a younger one does
  in_use,                 // some of it is in use, by nobody that was found
  disputed,               // of a living file: another one claims some of it
  some_blank,             // a sample reads as one repeated byte
  all_blank,              // all of them do
  doubted_blank,          // where its format hardly does
  head_fits,              // it begins like the format of its name
  head_differs,           // it does not
  verified,               // what looking at all of it gave: checksums hold
  consistent_noticing,    // it adds up, in a format that notices foreign clusters nearly always
  consistent,             // it adds up, in another one
  shorter,                // it adds up, and ends a cluster or more early
  broken,                 // it does not add up
  not_vouched,            // nothing in its format tells
  unrecognised,           // it is of no format that is known, and its name stands for one
  text,                   // it is text, as its name says
  text_may_have_grown,    // and an older record tells of it
  text_inferred,          // and what follows its first cluster is only taken to be its own
  text_under_other_name,  // it is text, and its name stands for something else
  not_checked,            // it was not looked at
  other_format,           // something else than its name says
};
constexpr size_t kClues = static_cast<size_t>(Clue::other_format) + 1;

using Clues = std::array<double, kClues>;
// `format`: the one the entry's name stands for. The losses in `facts` must be complete.
Clues clues_of(const Facts& facts, const Format& format);

// Of `files` lost files with odds like these, on volumes that were not used for the fit, `same`
// came back byte for byte. Evidence that none of them had promises nothing: half, of none.
struct Odds {
  double chance = 0;  // 0-1
  uint32_t files = 0;
  uint32_t same = 0;
};
Odds odds_of(const Facts& facts, const Format& format);

// Whether something in its content or its record stands for all of its bytes. Without that odds
// are those of other files that happened to be left alone, and no promise.
bool is_vouched_for(const Facts& facts);

}  // namespace undershelf
