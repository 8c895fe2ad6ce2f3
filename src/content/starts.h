// Whether a file begins somewhere on a medium: asked of every sector.
#pragma once

#include <cstddef>
#include <span>

namespace undershelf::content {

// Byte of a member's head at which a tar has its mark (POSIX.1-2017, pax, "ustar").
constexpr size_t kTarMark = 257;

// Bytes from a start on that are looked at.
constexpr size_t kStartLength = 4608;
// And without which nothing is told.
constexpr size_t kLeastStart = 512;

// Whether that is seen of `head`, of kLeastStart bytes, by a few of them, as of nearly all sectors:
// then `may_begin` is false, and `mark_at` (types.h) has none.
bool cannot_begin(std::span<const std::byte> head);

// Whether a file of a format begins with `head` that stands on marks of its own: not plain text,
// which begins anywhere. Nor do mail and JSON begin in the middle of text, or sound where it goes
// on. `head`: up to kStartLength bytes, fewer at the end of the medium; `before`: what stands in
// front of it, 2 KiB where so much is known. Most sectors cost the look at a few bytes.
bool may_begin(std::span<const std::byte> head, std::span<const std::byte> before);

}  // namespace undershelf::content
