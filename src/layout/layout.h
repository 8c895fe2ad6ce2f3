// How a source is divided: partition maps.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "source/source.h"

namespace undershelf {

struct Partition {
  int number = 0;    // as the map counts them, from 1
  ByteRange range;   // bytes of the source
  std::string type;  // as the map says, in words
  bool bootable = false;
};

struct Layout {
  std::string scheme = "none";  // or mbr
  std::vector<Partition> partitions;
  std::vector<std::string> notes;  // one sentence each: what is odd about the map
};

// Reads a master boot record with its primary partitions (UEFI specification 2.10, section 5.2.1,
// "Legacy MBR"). Scheme `none` if sector 0 holds no map.
Layout read_layout(const Source& source);

}  // namespace undershelf
