// Decoders for HEIF that work without threads. For the room's own use.
#pragma once

namespace undershelf::looking {

// From then on libheif has HEVC and AV1 decoded by libavcodec, in the thread that asks.
void use_libavcodec_for_heif();

}  // namespace undershelf::looking
