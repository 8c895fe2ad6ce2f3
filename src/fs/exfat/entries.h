// From an entry set to a plain entry.
#pragma once

#include "fs/exfat/folder.h"
#include "model/entry.h"

namespace undershelf::exfat {

// Without its streams and its folder. `key`: of the entry. `zone`: of times that tell none.
Entry entry_from(const EntrySet& set, uint64_t key, State state, const Zone& zone);

}  // namespace undershelf::exfat
