// What `scan` says at its end.
#pragma once

#include <cstdint>
#include <string>

#include "scan/scan.h"

namespace undershelf::cli {

// Of an image, what its ledger says it does not have. Whether there is such.
bool tell_gaps(const Source& source);
// "7 files without a name were found by content alone".
std::string found_by_content(uint64_t files);
// Says what there is now; returns how many files are deleted or former ones.
int64_t summarise(const Shelf& shelf, const ScanResult& result);
// The account as one JSON object, to standard output.
void print_account(const Shelf& shelf, const ScanResult& result);

}  // namespace undershelf::cli
