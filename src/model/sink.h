// Where readers push what they find. Implemented by the shelf.
#pragma once

#include "model/entry.h"
#include "model/ids.h"
#include "model/volume.h"

namespace undershelf {

class Sink {
 public:
  virtual ~Sink() = default;
  // Takes an entry of the volume being read, and returns the sink's number for it. The same key
  // again changes nothing. Folders are best pushed before what is in them.
  virtual EntryId add(const Entry& entry) = 0;
  // One more name of an entry that was pushed before; `entry` is the sink's number.
  virtual void add(EntryId entry, const OtherName& name) = 0;
  virtual void add(const Damage& damage) = 0;
};

}  // namespace undershelf
