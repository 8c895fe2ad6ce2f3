// GUID partition tables: UEFI specification 2.10, section 5.3.
#pragma once

#include <optional>

#include "layout/layout.h"

namespace undershelf {

// Reads both copies of the table, checks their CRCs, and takes the primary one if it is sound, else
// the backup; notes say what is wrong or differs. `sector_size` in bytes. Nothing if neither copy
// is there.
std::optional<Layout> read_gpt(const Source& source, uint32_t sector_size);

}  // namespace undershelf
