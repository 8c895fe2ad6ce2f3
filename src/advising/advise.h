// What to try next where something that was sought is not there, by the facts of a shelf.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "model/ids.h"
#include "shelf/selection.h"

namespace undershelf {

struct Advice {
  enum class Call { none, list, scan, image };
  std::string word;      // stable, for scripts
  std::string sentence;  // what there is, and why it helps
  uint64_t files = 0;    // that it is about; 0 where none are counted
  Call call = Call::none;
  std::vector<std::string> without;  // filters that the call leaves out; `*`: all
  std::string more;                  // options that it has besides: " --trashed"
};

// The most promising first. `sought`: the filters; its limit and order do not count.
std::vector<Advice> advise(const Shelf& shelf, Selection sought);

}  // namespace undershelf
