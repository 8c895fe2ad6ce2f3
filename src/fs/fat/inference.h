// The layout of a FAT volume whose boot sectors are gone, from what still stands on it.
#pragma once

#include <optional>

#include "fs/fat/geometry.h"

namespace undershelf::fat {

// How well a layout agrees with the root folder.
struct Confirmation {
  int folders = 0;    // folders in the root that are where they should be
  int strangers = 0;  // folders that are not
  bool operator>(const Confirmation& other) const {
    return folders - strangers > other.folders - other.strangers;
  }
};

Confirmation confirm(const Source& volume, const Geometry& geometry);

// Finds two equal FATs and tries every size of root and cluster that drivers use with them. Folders
// in the root decide; where there are none, files there whose chains are as long as the files.
// Nothing if neither confirms any layout.
std::optional<Geometry> infer_geometry(const SourcePtr& volume);

}  // namespace undershelf::fat
