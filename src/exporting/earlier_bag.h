// What an earlier, interrupted export left in its bag. For the exporting folder's own use.
#pragma once

#include <functional>
#include <map>
#include <string>
#include <tuple>

#include "exporting/bag_writer.h"
#include "model/ids.h"

namespace undershelf {

// By what a file of a bag is known again: entry, stream, and its path in the bag.
struct BagKey {
  EntryId id{};
  std::string stream, path;
  auto operator<=>(const BagKey&) const = default;
};

using IsStillRight = std::function<bool(const BagKey&, const ListedFile&)>;

class EarlierBag {
 public:
  // What its bag-info.txt is held against.
  struct Expected {
    std::string identity;  // must stand there
    std::string state;     // of the shelf
    // Asked where another state stands there: whether the file would be written just so now.
    IsStillRight is_still_right;
  };
  // Reads the lists of the bag at `directory` and hashes what they tell of; what is not as it was
  // written, or not as it would be now, is removed, and the lists are made to tell just what is
  // there. `hashed` is told the bytes of each file. Throws Error (refused) if the bag is another
  // export's; TargetFailed.
  void load(const std::string& directory, const Expected& expected,
            const std::function<void(uint64_t)>& hashed);
  // The file with that key, if it is there and right.
  const ListedFile* find(const BagKey& key) const;
  // All that are.
  const std::map<BagKey, ListedFile>& files() const { return files_; }

 private:
  std::map<BagKey, ListedFile> files_;
};

}  // namespace undershelf
