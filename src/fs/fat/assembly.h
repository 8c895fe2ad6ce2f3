// Puts former and lost FAT volumes together from what a sweep found.
#pragma once

#include "fs/assembly/scene.h"

namespace undershelf::fat {

// A folder's first cluster at byte X that names itself cluster C lies in a volume whose data begins
// at X - (C - 2) * cluster size: two folders tell where that is, votes of all of them which
// volumes there were. Boot sectors and their backups give the rest where they are left, tables
// where chains are.
std::vector<Assembled> assemble(const Scene& scene);

}  // namespace undershelf::fat
