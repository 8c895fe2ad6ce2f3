// Puts former and lost HFS+ volumes together from what a sweep found.
#pragma once

#include "fs/assembly/scene.h"

namespace undershelf::hfsplus {

// Leaf nodes hold the whole tree: each record has its folder's number. Where blocks are counted
// from, and how large they are, tell volume headers, trees and journals whose first block a record
// names, and at last the content of files.
std::vector<Assembled> assemble(const Scene& scene);

}  // namespace undershelf::hfsplus
