// Folders of a volume whose layout nothing tells: what stands in their entry sets, without content.
#pragma once

#include <memory>
#include <vector>

#include "fs/fs.h"

namespace undershelf::exfat {

// `parts`: bytes of the source that hold sets, each of one folder; `where`: the space in which they
// lie.
std::unique_ptr<VolumeReader> make_unplaced(const SourcePtr& source, const ByteRange& where,
                                            const std::vector<ByteRange>& parts,
                                            const ReadOptions& options);

}  // namespace undershelf::exfat
