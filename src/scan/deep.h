// The two halves of a deep scan: the sweep over the source, and what its traces amount to.
#pragma once

#include "fs/assembly/scene.h"
#include "model/ids.h"
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

// What a survey tells of a source, as sweeps need it.
struct Present {
  std::vector<Scene::Current> current;  // the volumes whose entries the shelf holds already
  std::vector<ByteRange> others;        // held by systems without a reader: bytes of the source
  std::vector<uint64_t> starts;         // where volumes may have begun: bytes of the source, sorted
};

// When the first file was made that a volume's own structures tell of, by what the shelf holds.
std::optional<Time> oldest_file(Shelf& shelf, VolumeId volume);

// Living files in which the header of a volume was found: they may be disk images.
std::vector<EntryId> files_with_headers(Shelf& shelf);

// Puts the traces together. Throws what `budget` does.
std::vector<FoundBySweep> volumes_of_sweep(Shelf& shelf, const SourcePtr& source,
                                           const ScanOptions& options, const Present& present,
                                           Budget& budget);

}  // namespace undershelf
