// A medium as a source.
#pragma once

#include <functional>
#include <memory>

#include "source/medium.h"
#include "source/source.h"

namespace undershelf {

// Told in order of what became of a range (bytes of the medium): its bytes, or the errno and none.
using Fetched = std::function<void(const ByteRange&, std::span<const std::byte>, int error)>;

// Asks for a range as a whole, and where that fails once more, by single units. Widened to whole
// units. While the medium is gone, asks for half a minute whether it is back; what was not asked
// for then is not told of. At most 1 MiB at once.
void fetch(Medium& medium, const ByteRange& range, const Fetched& told);

// Reads of whole units go straight into the reader's memory where the medium takes any.
SourcePtr source_over(std::unique_ptr<Medium> medium);

}  // namespace undershelf
