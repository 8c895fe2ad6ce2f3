// Puts former and lost exFAT volumes together from what a sweep found.
#pragma once

#include "fs/assembly/scene.h"

namespace undershelf::exfat {

// Entry sets prove themselves, but name neither their own place nor their folder's. Folders are
// named by number in one place and begin in another: the layout with which most of both agree is
// right, and files must begin there as their names say. Boot sectors, the root's own entries and
// the FAT's beginning give the rest where they are left.
std::vector<Assembled> assemble(const Scene& scene);

}  // namespace undershelf::exfat
