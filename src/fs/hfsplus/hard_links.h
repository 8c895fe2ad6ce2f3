// Hard links: names in the tree, and the content they lead to, which lies in a private folder
// (TN1150, "Hard Links").
#pragma once

#include <map>
#include <optional>
#include <set>
#include <utility>
#include <vector>

#include "fs/hfsplus/catalog.h"
#include "fs/hfsplus/remnants.h"
#include "model/entry.h"

namespace undershelf::hfsplus {

// Whether a record is a hard link.
bool is_link(const CatalogRecord& record);

// Not to be shared between threads.
class HardLinks {
 public:
  void clear() { *this = {}; }

  // A record in use, or the best one of a file or folder of a former volume: notes links, and which
  // folders are the private ones. `name`: under which it stands.
  void note(const CatalogRecord& record, const PlacedName& name);
  // The stale record of a link that is there no more.
  void note_stale(const CatalogRecord& record, const PlacedName& name);

  // Gives the content of links their names, former ones too. False if no link leads to it, or ever
  // did: its name is its own.
  bool name_content(Entry& entry, const CatalogRecord& record);
  // Whether a file or folder is the file system's own. `record` with the name it stands under.
  bool is_private(const CatalogRecord& record) const;
  // Whether that is the folder in which the contents of links to files lie.
  bool holds_files(uint32_t cnid) const { return cnid != 0 && cnid == private_files_; }

  // Links in use whose content was not named; those that were deleted likewise.
  std::vector<Entry> lost() const;
  std::vector<Entry> lost_stale() const;

 private:
  struct Link {
    PlacedName name;
    uint32_t cnid = 0;  // of the link itself
  };
  using Target = std::pair<bool, uint32_t>;  // whether a folder, and the number of the content
  using Links = std::map<Target, std::vector<Link>>;

  static std::optional<Target> target_of(const CatalogRecord& record);
  std::optional<Target> content_number(const CatalogRecord& record) const;
  static void take_names(Entry& entry, const std::vector<Link>& links);
  static Entry lost_link(const Target& target, const std::vector<Link>& links);
  friend bool is_link(const CatalogRecord& record);

  Links links_, stale_;
  std::set<Target> named_;                            // contents
  uint32_t private_files_ = 0, private_folders_ = 0;  // CNIDs of the private folders
};

}  // namespace undershelf::hfsplus
