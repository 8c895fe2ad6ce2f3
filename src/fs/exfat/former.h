#pragma once

#include "fs/former.h"

namespace undershelf::exfat {

std::vector<Assembled> assemble(const Scene& scene);

}  // namespace undershelf::exfat
