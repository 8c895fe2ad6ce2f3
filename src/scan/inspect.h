// A closer look at a source, for the survey: what its space reads as, and what else may lie on it.
#pragma once

#include <optional>
#include <string>

#include "fs/fs.h"

namespace undershelf {

// Samples of space, and how many of them read as one repeated byte throughout.
struct Blankness {
  size_t sampled = 0;
  size_t blank = 0;
  size_t unreadable = 0;
};

struct SpaceSample {
  Blankness lost;  // the beginnings of lost files: places known to have held data
  Blankness free;  // clusters that are free now
};

// Reads up to 64 places of each kind, 4 KiB of each.
SpaceSample sample_space(VolumeReader& reader, const Source& source);

// What the samples mean, in one sentence; empty if they mean nothing in particular.
std::string meaning_of(const SpaceSample& sample);

// What libblkid takes a part of a source for ("ext4", "crypto_LUKS"); empty if it knows nothing. It
// is shown the first and the last MiB of it. Only names are taken from it.
std::string name_of_other_system(const Source& source, const ByteRange& where);

// What libblkid takes the partition map of a source for, if that is one that is not read here
// ("sun", "bsd"); empty otherwise.
std::string name_of_other_map(const Source& source);

}  // namespace undershelf
