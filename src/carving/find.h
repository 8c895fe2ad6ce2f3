// One find of carving, and which of several that share bytes is kept. For the room's own use.
#pragma once

#include <algorithm>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "carving/scene.h"
#include "checking/examine.h"
#include "model/pieces.h"
#include "placing/behind.h"

namespace undershelf::carving {

struct Find {
  Find(uint64_t at, uint64_t bytes, int in_round, const checking::Examined& as)
      : start(at), length(bytes), round(in_round), found(as) {}
  uint64_t start = 0;   // byte of the space
  uint64_t length = 0;  // bytes
  Pieces pieces;
  int round = 0;  // in which it was found
  checking::Examined found;
  std::optional<Named> named;  // the lost file that it is
  Behind behind = Behind::not_told;
  bool goes_on = false;  // elsewhere: nobody knows from where on
  // More goes on where its last piece does. Precondition: not 0.
  void set_length(uint64_t bytes) {
    uint64_t less = length - std::min(length, bytes);
    while (less >= pieces.back().length) {
      less -= pieces.back().length;
      pieces.pop_back();
    }
    pieces.back().length += std::max(length, bytes) - length - less;
    found.sound_to = std::min(found.sound_to, bytes);
    length = bytes;
  }
  bool is_verified() const { return found.level == content::Level::verified; }
};
using Finds = std::vector<std::unique_ptr<Find>>;

// Whether files of a format may hold whole files of others as they are: pictures in documents,
// members in archives, frames in clips. What begins in one is a part of it.
bool may_hold_others(std::string_view format);

// Whether the parts of such files begin as the files do: what begins inside a cluster is the rest
// of one.
bool parts_begin_alike(std::string_view format);

// Whether it ends where no further part follows, which may be where what is not its own begins.
bool may_go_on(const Find& find);

// Of finds that share bytes one stays: a whole before its parts, what is verified before what is
// not, the longer one before the shorter. What stays is in the order of its starts.
void settle(Finds& finds);

// Copies of one content are one entry, and none if a lost file with a name has it. `named`: SHA-256
// of those.
void drop_copies(Finds& finds, std::set<std::string> named);

}  // namespace undershelf::carving
