// What the sweep asks of each file system: to recognise pieces of its metadata in raw blocks.
#pragma once

#include <cstddef>
#include <cstdint>
#include <memory>
#include <span>
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
  bool operator==(const Trace&) const = default;
};

// A kind all detectors share: a header (boot sector, volume header) or a backup of one. `number`
// is the byte of the source at which its volume would start.
constexpr uint32_t kHeaderTrace = 0;

// A part of the source under the sweep.
struct SweepBlock {
  uint64_t offset = 0;               // byte of the source of the first byte; a multiple of 512
  std::span<const std::byte> bytes;  // what is to be looked at, and what follows it
  size_t own = 0;                    // bytes in which pieces to be found begin
};

// Looks at every block of a source once, in order. Used from one thread. Rejects an ordinary block
// by a few compared bytes a step, and allocates only for what it finds.
class Detector {
 public:
  virtual ~Detector() = default;
  // How much of what follows a place must be there to judge it: bytes.
  virtual size_t reach() const = 0;
  // Appends what begins in the block's own bytes (blocks of zeros are not shown at all), at
  // multiples of 512 bytes of the source; a trace that goes on where the last one found ends is
  // joined to it.
  virtual void look(const SweepBlock& block, std::vector<Trace>& found) = 0;
};

constexpr size_t kSweepStep = 512;  // bytes; volumes may start at any multiple

}  // namespace undershelf
