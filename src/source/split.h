// Split images: name.001, name.002 and so on.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "source/source.h"

namespace undershelf {

// The segments that belong to `path`, the first one, in order; only `path` itself if it is no split
// image. Throws Error (unavailable) if a segment is missing, or `path` is a later one.
std::vector<std::string> segments_of(const std::string& path);

// Segments read as one source. Throws Error (unavailable) if one of them is shorter than those
// before it and not the last: the copy is not complete, or the order is wrong.
SourcePtr join_segments(const std::vector<std::string>& paths,
                        const std::vector<SourcePtr>& segments);

}  // namespace undershelf
