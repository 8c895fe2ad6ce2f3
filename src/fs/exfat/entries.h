// From an entry set to a plain entry.
#pragma once

#include "fs/exfat/folder.h"
#include "model/entry.h"

namespace undershelf::exfat {

// Without its streams and its folder. `key`: of the entry. `zone`: of times that tell none.
Entry entry_from(const EntrySet& set, uint64_t key, State state, const Zone& zone);

// When it was made, by its own account.
std::optional<Time> created_time(const FileEntry& file, const Zone& zone);

}  // namespace undershelf::exfat
