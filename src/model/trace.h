// Places that a sweep found, before anybody knows what they belong to.
#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "model/range.h"

namespace undershelf {

// A place that looks like a piece of a file system's metadata: one block of it, or several of the
// same kind that follow each other. What `number` and `other` mean depends on `kind`; each
// detector's header says so.
struct Trace {
  uint64_t offset = 0;  // byte of the source
  uint64_t length = 0;  // bytes
  uint32_t kind = 0;
  uint64_t number = 0;
  uint64_t other = 0;
  uint64_t end() const { return offset + length; }
  ByteRange range() const { return {offset, length}; }
  // Whether the other one begins where this one ends, and is alike.
  bool goes_on_with(const Trace& next) const {
    return end() == next.offset && kind == next.kind && number == next.number &&
           other == next.other;
  }
  bool operator==(const Trace&) const = default;
};

// Packed form (docs/shelf.md, "sweep, traces"): for each a varint of its kind, one of the zigzag
// difference of its offset to the last one's, one of its length, one of the zigzag difference of
// its number to the last one's, and one of `other`.
std::string pack(std::span<const Trace> traces);

// Nothing if `packed` is not the packed form of traces.
std::optional<std::vector<Trace>> unpack_traces(std::string_view packed);

// Places at which files of known formats seem to begin. Kinds: kMarkTrace, `number`: the mark with
// which it begins (content/types.h); kStartTrace, if a file begins there that may be known by its
// content alone: then `number` is the mark or 0.
constexpr const char* kContentStarts = "content";  // the name under which they are kept
constexpr uint32_t kMarkTrace = 1, kStartTrace = 2;

// A kind all detectors share: a header (boot sector, volume header) or a backup of one. `number`
// is the byte of the source at which its volume would start.
constexpr uint32_t kHeaderTrace = 0;

constexpr size_t kSweepStep = 512;  // bytes; volumes may start at any multiple

}  // namespace undershelf
