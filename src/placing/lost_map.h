// Which lost stream held each place last, as far as placing has got.
#pragma once

#include <cstdint>
#include <map>

#include "model/range.h"

namespace undershelf {

// Disjoint ranges of the space with the number of the stream that holds them.
class LostMap {
 public:
  struct Holding {
    ByteRange range;
    uint32_t stream = 0;
  };
  // Gives a range to `stream`, taking it from whoever held it.
  void assign(const ByteRange& range, uint32_t stream);
  // The holding that covers `offset`, or the next one behind it. Length 0 if there is none.
  Holding at_or_after(uint64_t offset) const;

 private:
  struct End {
    uint64_t end;
    uint32_t stream;
  };
  std::map<uint64_t, End> by_begin_;
};

}  // namespace undershelf
