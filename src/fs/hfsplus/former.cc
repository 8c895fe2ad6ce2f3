#include "fs/hfsplus/former.h"

namespace undershelf::hfsplus {

std::vector<Assembled> assemble(const Scene&) { return {}; }

}  // namespace undershelf::hfsplus
