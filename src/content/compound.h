// Compound files: what their walk and their description share. For the library's own use.
#pragma once

#include <cstdint>
#include <string_view>
#include <vector>

#include "content/bytes.h"
#include "content/describe.h"

namespace undershelf::content {

constexpr uint32_t kMostCompoundSector = 0xFFFFFFFA;  // [MS-CFB] 2.1: MAXREGSECT

// Bytes of a sector as the header says, 512 or 4096. Sector n lies at (n + 1) sectors.
inline uint64_t compound_sector(Bytes& bytes) { return bytes.le16(30) == 12 ? 4096 : 512; }

// The numbers of the sectors that hold the table of sectors (the FAT, 2.3 and 2.5), in order: at
// most `sectors`, which are not looked at themselves.
std::vector<uint32_t> compound_tables(Bytes& bytes, uint64_t sectors);

void describe_compound(Bytes& bytes, std::string_view format, Description& found);

}  // namespace undershelf::content
