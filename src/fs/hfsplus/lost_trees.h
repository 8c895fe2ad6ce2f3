// Where the trees of a volume lie whose header is gone, or has them wrong.
#pragma once

#include <span>

#include "fs/assembly/scene.h"
#include "fs/hfsplus/found.h"
#include "fs/hfsplus/geometry.h"

namespace undershelf::hfsplus {

// All geometries here count from the beginning of the source.
inline Grid grid_of(const Geometry& geometry) { return {geometry.start, geometry.block_size()}; }

// Where a header has the first piece of the catalog, as if that were all of it: bytes of the
// source.
ByteRange catalog_of(const Geometry& geometry);
// Whether a tree begins there, or its leaves were found.
bool has_catalog(const Scene& scene, const Geometry& geometry);

// Adds the trees that begin on the grid, as a volume header would name them; each is taken to lie
// in one piece, if its first and last leaf are where it then has them. The catalog also by its
// leaves, if all those in use are there. `journals` (bytes of the source) hold copies of nodes.
void add_trees(const Scene& scene, std::span<const ByteRange> journals, const Found& found,
               Geometry& geometry);

}  // namespace undershelf::hfsplus
