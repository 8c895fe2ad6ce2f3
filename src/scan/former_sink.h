// Between the reader of a former volume and the shelf: what it tells of as living or deleted is
// neither, by now.
#pragma once

#include <unordered_map>
#include <unordered_set>

#include "model/sink.h"

namespace undershelf {

class FormerSink : public Sink {
 public:
  // `former`: all entries get that state, and damage to the volume's metadata is no news. Otherwise
  // they pass as they are.
  // `key_mask`: Traits::key_mask.
  FormerSink(Sink& to, bool former, uint64_t key_mask)
      : to_(to), former_(former), key_mask_(key_mask) {}
  EntryId add(const Entry& entry) override;
  void add(EntryId entry, const OtherName& name) override { to_.add(entry, name); }
  void add(const Damage& damage) override;
  // Pushes a folder under a made-up name for each one that others lie in and that was not pushed.
  void finish();
  uint64_t files() const { return files_; }

 private:
  Sink& to_;
  bool former_;
  uint64_t key_mask_;
  uint64_t files_ = 0;
  std::unordered_set<uint64_t> pushed_;  // keys
  std::unordered_set<uint64_t> wanted_;  // keys of folders
};

}  // namespace undershelf
