// Which clusters go on which folders where no chain tells: of folders that were deleted, whose FAT
// is lost, or whose volume was formatted over.
//
// Four things tell, best first: a long name that is cut by a cluster's end is completed by one
// cluster ("FAT Long Directory Entries", the slots' order and checksum); the folders that a cluster
// lists name their parent in their `..`; drivers append, so that what a folder goes on with was
// made after what it ends with, and soon after; files that follow each other are often named alike.
#pragma once

#include <cstdint>
#include <optional>
#include <unordered_map>
#include <vector>

#include "fs/fat/content.h"

namespace undershelf::fat {

// The end of what is known of a folder: its last cluster is full.
struct FolderEnd {
  uint32_t folder = 0;               // its first cluster; 0 for the root
  uint32_t last = 0;                 // cluster
  std::vector<DirectoryEntry> tail;  // the last entries, as `tail_of` gives them
};

// A cluster that looks like the inside of a folder.
struct Inside {
  uint32_t cluster = 0;
  std::vector<DirectoryEntry> head;  // its entries up to the first 8.3 entry
  std::vector<DirectoryEntry> tail;  // as of a FolderEnd; empty if the folder ends here
  std::optional<uint32_t> parent;  // the folder whose it is, as the folders in it tell; 0: the root
};

// Of a cluster's entries, what must be kept of its end: the last 8.3 entry and what is behind it.
std::vector<DirectoryEntry> tail_of(std::span<const DirectoryEntry> entries);
// Of its beginning: the first 8.3 entry and what is before it.
std::vector<DirectoryEntry> head_of(std::span<const DirectoryEntry> entries);

// For each folder that goes on, by its first cluster: the clusters with which it does, in order.
// Each inside goes to one folder at most. n log n in both.
std::unordered_map<uint32_t, std::vector<uint32_t>> find_continuations(
    const std::vector<FolderEnd>& ends, const std::vector<Inside>& insides);

}  // namespace undershelf::fat
