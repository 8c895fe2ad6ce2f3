// One find of carving, and which of several that share bytes is kept. For the room's own use.
#pragma once

#include <algorithm>
#include <memory>
#include <optional>
#include <vector>

#include "carving/scene.h"
#include "checking/examine.h"
#include "model/pieces.h"

namespace undershelf::carving {

struct Find {
  uint64_t start = 0;   // byte of the space
  uint64_t length = 0;  // bytes
  Pieces pieces;
  int round = 0;  // in which it was found
  checking::Examined found;
  std::optional<Named> named;  // the lost file that it is
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

// Whether it ends where no further part follows, which may be where what is not its own begins.
bool may_go_on(const Find& find);

// Of finds that share bytes one stays: a whole before its parts, what is verified before what is
// not, the longer one before the shorter. What stays is in the order of its starts.
void settle(Finds& finds);

}  // namespace undershelf::carving
