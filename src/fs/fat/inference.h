// The layout of a FAT volume whose boot sectors are gone, from what still stands on it.
#pragma once

#include <optional>

#include "fs/fat/geometry.h"

namespace undershelf::fat {

// What speaks for a layout and against it, by what lies in its folders from the root down.
struct Merit {
  int folders = 0;     // that name themselves where the layout has them, other than at cluster 2
  int first = 0;       // one at cluster 2, which every cluster size has in the same place
  int files = 0;       // whose chain in one of the FATs is just as long as their size asks
  int others = 0;      // folders and files that are not so
  int heads = 0;       // files that begin like their format, less those that do not
  bool fills = false;  // the FAT is as large as a formatter makes it for so many clusters
  bool root = false;   // the root can end where the clusters are taken to begin

  int total() const {
    return 4 * folders + first + 2 * files - 4 * others + 2 * heads + 3 * int{fills} +
           4 * int{root};
  }
  bool is_proof() const { return folders + first + files > 0; }
  // No other layout need be looked at.
  bool is_beyond_doubt() const { return folders + files >= 2 && others == 0 && heads >= 0; }
  // Any layout that anything speaks for is to be looked at: chains are as long as their files say
  // wherever the clusters are taken to lie.
  bool is_doubtful() const {
    const bool astray = (folders + first == 0 && others > 0) || heads < 0;
    return !is_proof() || others > folders + files || astray;
  }
};

Merit weigh(const SourcePtr& volume, const Geometry& geometry);

// Finds two equal FATs and tries every size of root and cluster that drivers use with them. Folders
// in the root decide; where there are none, files there whose chains are as long as the files.
// Nothing if neither confirms any layout.
std::optional<Geometry> infer_geometry(const SourcePtr& volume);

}  // namespace undershelf::fat
