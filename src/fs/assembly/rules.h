// What decides whether a layout is believed and how far, for volumes that are put together: one row
// a file system.
#pragma once

#include <algorithm>
#include <cstdint>

namespace undershelf {

// Points: those of score_by_content(), 4 a file that begins as its format does.
//
// What a vote is worth: a place whose number agrees with others. Between 1 and 40 nothing changes
// on volumes made by recipes/lives.py: where there are votes, they and the content agree.
constexpr int kVote = 8;
// Points that are enough where no number tells anything: two files. On 79 such volumes that were
// formatted, wiped or lost their map, nothing changes from 8 to 48; with one file (4) 17 of 271
// files of HFS+ come back wrong, and with none exFAT lists 73 files that never were, beside 366
// that were.
constexpr int kLeastContent = 8;

struct Rules {
  uint64_t least_unit, most_unit;  // bytes of a cluster (block) that are tried

  // The confidence of a volume: `base`, and what it has besides. At most 90.
  int base;
  int header;         // its header, or a backup of that
  int layout;         // without it, something that tells where its clusters lie
  int evidence;       // all of the pieces that prove it ...
  uint64_t complete;  // ... if there are so many
  int confidence(bool has_header, bool has_layout, uint64_t pieces) const {
    const auto share = static_cast<int64_t>(evidence * std::min(pieces, complete) / complete);
    const int told = has_header ? header : has_layout ? layout : 0;
    return std::min(90, base + told + static_cast<int>(share));
  }
};

constexpr Rules kFatRules = {512, 512 << 10, 40, 20, 0, 48, 8};
constexpr Rules kExfatRules = {512, 32 << 20, 40, 20, 0, 48, 8};
constexpr Rules kNtfsRules = {512, 2 << 20, 30, 20, 10, 30, 100};
constexpr Rules kHfsplusRules = {512, 1 << 20, 30, 40, 30, 0, 1};

// Volumes of one file system that are put together from one source, at most.
constexpr size_t kMostVolumes = 64;

}  // namespace undershelf
