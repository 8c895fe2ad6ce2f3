#include "fs/ntfs/former.h"

namespace undershelf::ntfs {

std::vector<Assembled> assemble(const Scene&) { return {}; }

}  // namespace undershelf::ntfs
