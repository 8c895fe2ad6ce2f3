#include "fs/exfat/former.h"

namespace undershelf::exfat {

std::vector<Assembled> assemble(const Scene&) { return {}; }

}  // namespace undershelf::exfat
