// What else the shelf knows of one entry.
#pragma once

#include <string>
#include <vector>

#include "model/entry.h"
#include "model/ids.h"

namespace undershelf {

class Shelf;

struct EntryDetails {
  std::vector<std::string> link_paths;  // its other hard links
  std::string type_and_creator;         // HFS+: four letters each; empty if there are none
  bool hidden = false;
  std::string link_target;  // of a symbolic link or mount point; empty for others
  std::vector<Evidence> evidence;
};

EntryDetails load_details(const Shelf& shelf, EntryId entry);
Pieces load_pieces(const Shelf& shelf, StreamId stream);
// What the content says of itself: JSON (docs/shelf.md); empty if it says nothing.
std::string says_of(const Shelf& shelf, StreamId stream);

// A reader's fact in words for the user. The codes: docs/shelf.md, "Evidence".
std::string evidence_sentence(const Evidence& fact);

}  // namespace undershelf
