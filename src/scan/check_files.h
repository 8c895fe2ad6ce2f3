// The check of whole files as a step of a scan.
#pragma once

#include <span>

#include "access/spaces.h"
#include "model/budget.h"
#include "placing/claims.h"
#include "scan/scan.h"
#include "shelf/shelf.h"

namespace undershelf {

// Has files looked at to their end, and what breaks off placed by its content. What the user is to
// know of it goes to `result`; stopped, the next scan goes on with it.
void check_files(Shelf& shelf, Spaces& spaces, const Claims& claims, const ScanOptions& options,
                 const Budget& budget, ScanResult& result);
// Likewise, files looked for by their content alone (carving/carve.h). The streams must have been
// rated since they were checked.
void carve_files(Shelf& shelf, Spaces& spaces, const Claims& claims, const ScanOptions& options,
                 const Budget& budget, ScanResult& result);
// Likewise, names without content joined with what that found (placing/joining.h, where
// `numbered` is explained). All must have been rated since.
void join_found_files(Shelf& shelf, std::span<const VolumeId> numbered, const Budget& budget,
                      ScanResult& result);

}  // namespace undershelf
