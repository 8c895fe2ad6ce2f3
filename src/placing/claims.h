// Who holds which bytes of a space now (the source, or a disk image on it): the claims of live
// entries.
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <unordered_map>
#include <vector>

#include "model/ids.h"
#include "model/pieces.h"
#include "model/range.h"

namespace undershelf {

class Shelf;

struct Claim {
  ByteRange range;  // of the space
  EntryId entry{};  // who holds it
};

// A range that two entries claim.
struct Dispute {
  ByteRange range;  // of the space
  EntryId first{}, second{};
};

// A set of claims, made disjoint: where two overlap, the first to begin keeps the range, and both
// are recorded as disputing it, unless they share all that either claims: such are two names of one
// content. 24 bytes a claim.
class ClaimMap {
 public:
  void add(const ByteRange& range, EntryId entry);
  // Sorts; to be called once, after the last add. `alike` is asked of two entries that share all
  // that either claims: whether they are two names of one content.
  void settle(const std::function<bool(EntryId, EntryId)>& alike = [](EntryId, EntryId) {
    return true;
  });

  // The claim that covers `offset`, or the next one behind it; null if there is none.
  const Claim* at_or_after(uint64_t offset) const;
  // Calls `visit` with each claim that overlaps `range`, in order, and the shared bytes.
  void each_overlap(const ByteRange& range,
                    const std::function<void(const Claim&, const ByteRange&)>& visit) const;
  // In the order of their places; at most 100,000.
  const std::vector<Dispute>& disputes() const { return disputes_; }
  // Calls `visit` with each part of `range` that `entry` disputes with another.
  void each_dispute(const ByteRange& range, EntryId entry,
                    const std::function<void(const ByteRange&)>& visit) const;

 private:
  void keep_disputes(const std::vector<Dispute>& found,
                     const std::function<bool(EntryId, EntryId)>& alike);
  std::vector<Claim> claims_;
  std::vector<Dispute> disputes_;
  std::unordered_map<EntryId, std::vector<ByteRange>> disputed_;  // by entry
};

// The first clusters in a range of the space that are in use by the accounts of the file system
// that holds volume `volume` of the shelf; length 0 if none. See VolumeReader::next_used.
using NextUsed = std::function<ByteRange(VolumeId volume, const ByteRange& within)>;

// Calls `visit` with each part of `range` that is in use by the accounts of `volume`, although no
// claim covers it: something whose entry was not found lies there.
void each_ownerless(const ClaimMap& claims, const NextUsed& next_used, VolumeId volume,
                    const ByteRange& range, const std::function<void(const ByteRange&)>& visit);

// The whole clusters of all live entries in current volumes, and of folders whose content was
// found in place, deleted ones included: those clusters are known to hold a folder, and
// what file systems themselves hold; by the space in which they lie (VolumeRecord::space), for each
// in which a volume does. What lies inside a file claims nothing outside of it, and former folders
// do not claim what may be another's by now.
using Claims = std::map<SpaceId, ClaimMap>;
Claims load_claims(const Shelf& shelf);

}  // namespace undershelf
