// Names in FAT folders: 8.3 names, long names, and what deletion leaves of both.
// FAT specification 1.03: "FAT Directory Structure", "FAT Long Directory Entries".
#pragma once

#include <optional>
#include <span>
#include <string>

#include "fs/fat/ondisk.h"
#include "model/entry.h"
#include "model/text.h"

namespace undershelf::fat {

// The checksum that ties long-name entries to their 8.3 name ("FAT Long Directory Entries",
// ChkSum()).
u8 checksum(std::span<const u8, 11> name);

// The one first byte with which a name whose other ten bytes are `name[1..10]` has checksum `sum`.
// Each step of the sum is a bijection of its first byte, so there is exactly one.
u8 solve_first_byte(u8 sum, std::span<const u8, 11> name);

// Whether the bytes can be an 8.3 name. The first byte is not looked at if it is lost.
bool is_legal_short_name(std::span<const u8, 11> name, bool first_lost);

// The 8.3 name as its owner saw it. A lost first byte shows as `_`, and the name is not exact.
Name short_name(const DirectoryEntry& entry, bool first_lost, const CodePage& code_page);

struct LongName {
  Name name;
  size_t slots = 0;    // long entries used
  bool ended = false;  // the slot that holds the end of the name was seen
};

// The long name that belongs to `entries[at]`, an 8.3 entry, from the entries before it. Of a
// deleted entry the slots are joined by place and checksum, and accepted if the first byte that
// their checksum asks for is legal and fits the long name. Nothing if there is none; then
// `*broken` is set if slots with its checksum stand there all the same.
std::optional<LongName> long_name(std::span<const DirectoryEntry> entries, size_t at, bool deleted,
                                  bool* broken);

}  // namespace undershelf::fat
