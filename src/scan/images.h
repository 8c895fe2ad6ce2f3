// Disk images among living files: they hold volumes of their own.
#pragma once

#include <vector>

#include "model/ids.h"
#include "model/sink.h"

namespace undershelf {

// Between a reader and the shelf: notes which living files are named as disk images are.
class ImageNoter : public Sink {
 public:
  // Both must outlive it. What is noted is added to `images`: the numbers that `to` gives.
  ImageNoter(Sink& to, std::vector<EntryId>& images) : to_(to), images_(images) {}
  EntryId add(const Entry& entry) override;
  void add(EntryId entry, const OtherName& name) override { to_.add(entry, name); }
  void add(const Damage& damage) override { to_.add(damage); }

 private:
  Sink& to_;
  std::vector<EntryId>& images_;
};

}  // namespace undershelf
