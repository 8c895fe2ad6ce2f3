// How a source is divided: partition maps.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "source/source.h"

namespace undershelf {

struct Partition {
  int number = 0;    // as the map counts them, from 1; logical volumes of an MBR from 5
  ByteRange range;   // bytes of the source
  std::string type;  // as the map says, in words
  std::string name;  // GPT and Apple only; may be empty
  bool bootable = false;
  // An extended partition, in which the logical volumes lie, or an Apple one that holds none.
  bool container = false;
};

struct Layout {
  std::string scheme = "none";  // or mbr, gpt, apm
  uint32_t sector_size = 512;   // bytes in which the map counts
  std::vector<Partition> partitions;
  std::vector<std::string> notes;  // one sentence each: what is odd about the map
};

// Reads the map of a source, counting in sectors of `sector_size` bytes: a GPT, or else an Apple
// partition map (which says itself in what it counts), or else a master
// boot record with its chain of logical volumes (UEFI specification 2.10, section 5.2.1, "Legacy
// MBR"). Scheme `none` if there is no map.
Layout read_layout(const Source& source, uint32_t sector_size);

}  // namespace undershelf
