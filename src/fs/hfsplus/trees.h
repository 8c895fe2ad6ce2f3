// All that the nodes of a tree hold: records in use, and what is left behind.
#pragma once

#include <functional>
#include <string>

#include "fs/hfsplus/entries.h"
#include "fs/hfsplus/found.h"

namespace undershelf::hfsplus {

struct TreeVisitor {
  std::string name;               // of the tree, in sentences
  std::function<void()> on_node;  // before each node
  // A record of a leaf node in use, and the byte of the tree's file at which it begins.
  std::function<void(Bytes record, uint64_t at)> on_record;
  // Bytes that may hold old records: a free node's records, and what stands behind all records.
  std::function<void(Bytes)> on_stale;
  // What is broken, in bytes of the space; empty: not to be told.
  std::function<void(const ByteRange&, std::string what)> on_damage;
};

// `stream` is the tree's file.
void each_record(BTree& tree, const PiecesSource& stream, const TreeVisitor& visitor);

// What old records of the other trees such bytes hold.
void add_stale_extents(Bytes bytes, Overflow& overflow);
void add_stale_attributes(Bytes bytes, Attributes& attributes);

// All extents and attributes, in use or stale, that a sweep found of the volume that is asked for.
void read_found_tables(const Source& source, const Found& found, Tables& tables);

}  // namespace undershelf::hfsplus
