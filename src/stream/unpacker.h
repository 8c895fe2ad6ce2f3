// Unpacks compressed units by libraries, in a process of its own that can do nothing else
// (box/shut.h): what such a library makes of hostile bytes costs that one unit.
#pragma once

#include <cstddef>
#include <memory>
#include <mutex>
#include <span>

#include "model/entry.h"

namespace undershelf {

// Safe to be shared between threads, which take turns.
class Unpacker {
 public:
  static constexpr size_t kMostUnit = 1 << 17;  // bytes, packed or unpacked

  // The one of this process.
  static Unpacker& shared();
  ~Unpacker();
  Unpacker(const Unpacker&) = delete;
  Unpacker& operator=(const Unpacker&) = delete;

  // Starts its own process, which else is started when it is needed first, and anew after it died.
  // Who is about to start a thread does this before: a lock that another thread holds at a fork
  // (that of the memory, under sanitizers) is held in the new process for ever. Throws Error
  // (unavailable).
  void start();

  // Fills `out` with what `stored` unpacks to, as decode_zlib or ChunkDecoder do. False if it does
  // not unpack, the process died over it, or took more than ten seconds; `out` then holds anything.
  // Throws Error (unavailable) if there can be no such process here.
  bool unpack(Codec codec, std::span<const std::byte> stored, std::span<std::byte> out);

 private:
  class Process;
  Unpacker();
  std::mutex turn_;
  std::unique_ptr<Process> process_;
};

}  // namespace undershelf
