// The two halves of a deep scan: the sweep over the source, and what its traces amount to.
#pragma once

#include "scan/scan.h"
#include "shelf/traces.h"

namespace undershelf {

// Sweeps, or goes on with the sweep that the shelf holds, until `budget` is stopped. The record
// says how far it got.
SweepRecord sweep_source(Shelf& shelf, const Source& source, const ScanOptions& options,
                         const Budget& budget);

// Whether a deep scan of that part of the source (or of all of it) has nothing left to look at.
bool is_swept(Shelf& shelf, const Source& source, const std::optional<ByteRange>& range);

// A volume that a sweep led to, with how it is to be stored.
struct FoundBySweep {
  std::unique_ptr<VolumeReader> reader;
  Volume volume;                 // with its standing
  bool adds_to_current = false;  // it is known already: these are further entries of it
};

// Puts the traces together. `current`: readers of the volumes that are known already, whose entries
// the shelf holds; `starts`: where volumes may have begun, sorted (bytes of the source). Throws
// what `budget` does.
std::vector<FoundBySweep> volumes_of_sweep(Shelf& shelf, const SourcePtr& source,
                                           const ScanOptions& options,
                                           const std::vector<VolumeReader*>& current,
                                           const std::vector<uint64_t>& starts, Budget& budget);

}  // namespace undershelf
