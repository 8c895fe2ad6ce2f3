// A medium that is read through its image: no byte is asked of it twice.
#pragma once

#include <string>

#include "source/image_copy.h"
#include "source/medium.h"
#include "source/source.h"

namespace undershelf {

// What a ledger begins with, of the medium that is there.
LedgerHeader header_of(const std::string& path, const Medium& medium);

// Throws Error (unavailable) if an image that is gone on with holds other bytes than the medium
// where it says that it read them: many media have one size, and no serial number that can be asked
// for. A few places are read again; what cannot be read now says nothing.
void require_same_medium(Medium& medium, const ImageCopy& image, const std::string& path);

// Reads come from the image where it has them, and else from the medium, and are kept. What failed
// before is not tried again. `medium` and `image` must outlive it.
SourcePtr through(Medium& medium, ImageCopy& image);

// Likewise, of a source by its path; the image is begun if it is not there. Throws Error as
// open_medium() and ImageCopy do.
SourcePtr open_through(const std::string& path, const std::string& image);

}  // namespace undershelf
