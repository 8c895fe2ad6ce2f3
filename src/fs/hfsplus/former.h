#pragma once

#include "fs/former.h"

namespace undershelf::hfsplus {

std::vector<Assembled> assemble(const Scene& scene);

}  // namespace undershelf::hfsplus
