// Keeps what is written away from what is read.
#pragma once

#include <string>

namespace undershelf {

// `path` itself if it exists, or else the nearest folder above it that does.
std::string nearest_existing(const std::string& path);

// Throws Error (refused) if writing to `path`, a file or folder that may not exist yet, would write
// to the source: it is the source itself, also by another name, or lies on the source's device.
// `what` names the thing in the message: "shelf", "target".
void refuse_on_source(const std::string& what, const std::string& path,
                      const std::string& source_path);

}  // namespace undershelf
