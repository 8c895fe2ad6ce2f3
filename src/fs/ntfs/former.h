#pragma once

#include "fs/former.h"

namespace undershelf::ntfs {

std::vector<Assembled> assemble(const Scene& scene);

}  // namespace undershelf::ntfs
