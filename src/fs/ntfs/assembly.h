// Puts former and lost NTFS volumes together from what a sweep found.
#pragma once

#include "fs/assembly/scene.h"

namespace undershelf::ntfs {

// Records say their numbers, so the place of each tells where its table would begin; those that
// agree are one fragment of a table. Run lists count in clusters from where the volume begins:
// folders whose index blocks were found, records of $MFT itself, boot sectors, and at last the
// content of files tell where that is.
std::vector<Assembled> assemble(const Scene& scene);

}  // namespace undershelf::ntfs
