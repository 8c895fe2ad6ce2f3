// An image of a medium that was not, or could not be, read to its end.
#pragma once

#include <string>

#include "source/source.h"

namespace undershelf {

// `image`, the file at `path`, with what its ledger says: what is not read there is bad. Throws
// Error (unavailable) if the ledger is none, or not of this image.
SourcePtr with_ledger(SourcePtr image, const std::string& path);

}  // namespace undershelf
