// Recognises pieces of HFS+ volumes during the sweep.
#pragma once

#include "fs/detector.h"

namespace undershelf::hfsplus {

// Kinds of traces, besides headers (volume headers and alternate ones).
enum TraceKind : uint32_t {
  // Leaf nodes that follow each other. `number`: a Tree; `other`: bytes a node.
  kLeafNodes = 1,
  // The header node of a B-tree. `number`: a Tree; `other`: bytes a node.
  kTreeHeader = 2,
  // A journal's header, with which the file `.journal` begins. `number`: bytes of the journal.
  kJournal = 3,
};
enum Tree : uint64_t { kCatalogTree = 1, kExtentsTree = 2, kAttributesTree = 3 };

std::unique_ptr<Detector> make_detector();

// See FileSystem::can_be_trace.
bool can_be_trace(const Trace& trace);

}  // namespace undershelf::hfsplus
