// Recognises where files of known formats begin: for finding the layout of volumes whose headers
// are gone, and files without any metadata.
#pragma once

#include "fs/detector.h"

namespace undershelf {

// Traces: sectors with which files seem to begin (model/trace.h). More than some hundred thousand
// marks without a file tell nothing more, and are left out.
std::unique_ptr<Detector> make_content_detector();

}  // namespace undershelf
