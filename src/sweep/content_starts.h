// Recognises where files of known formats begin, for finding the layout of volumes whose headers
// are gone.
#pragma once

#include "fs/detector.h"

namespace undershelf {

constexpr const char* kContentStarts = "content";  // the name under which its traces are kept

// Traces: a sector that begins with a format's mark. `kind`: 1; `number`: the mark
// (content/types.h). More than some hundred thousand of them tell nothing more, and are left out.
std::unique_ptr<Detector> make_content_detector();

}  // namespace undershelf
