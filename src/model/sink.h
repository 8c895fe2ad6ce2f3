// Where readers push what they find. Implemented by the shelf.
#pragma once

#include "model/entry.h"
#include "model/volume.h"

namespace undershelf {

class Sink {
 public:
  virtual ~Sink() = default;
  // Takes an entry of the volume being read. The same key again changes nothing.
  // Folders are best pushed before what is in them.
  virtual void add(const Entry& entry) = 0;
  virtual void add(const Damage& damage) = 0;
};

}  // namespace undershelf
