// AppleDouble: how other systems keep a resource fork and the Finder's information beside a file
// ("AppleSingle/AppleDouble Formats for Foreign Files Developer's Note", version 2).
#pragma once

#include <cstdint>
#include <string>

#include "model/ids.h"

namespace undershelf {

class Shelf;

// What stands in front of a resource fork of `fork_size` bytes. `finder_info`: 32 bytes, or empty.
std::string apple_double_head(const std::string& finder_info, uint64_t fork_size);
// With the information that the shelf has of the entry.
std::string apple_double_head_of(const Shelf& shelf, EntryId entry, uint64_t fork_size);

// The path of the AppleDouble file that goes beside a file: `Maps/._Old survey`.
std::string apple_double_path(const std::string& path);

}  // namespace undershelf
