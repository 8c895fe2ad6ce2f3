// The clusters of folders: which were read, and what folders go on with whose chain is gone.
#pragma once

#include <cstdint>
#include <unordered_map>
#include <unordered_set>
#include <vector>

#include "fs/chained/heap.h"
#include "fs/fat/continuations.h"
#include "fs/fat/reader.h"
#include "fs/fat/table.h"
#include "model/entry.h"

namespace undershelf::fat {

// A folder that is still to be read.
struct Site {
  Entry entry;  // as pushed once its clusters are known
  uint32_t first = 0;
  uint32_t parent_first = 0;  // 0 for the root, as `..` has it
};

// A folder with the clusters that are known of it.
struct OpenFolder {
  Site site;
  Content content;
  std::vector<VolumeRange> where;  // bytes in the volume
  bool live = false;
};

// Not to be shared between threads. The references must outlive it.
class OpenFolders {
 public:
  OpenFolders(const Geometry& geometry, const chained::Heap& heap, Table& table, const Found& found)
      : geometry_(geometry), heap_(heap), table_(table), found_(found) {}

  void clear();

  // Clusters that were read, of whatever folder. take() is false if that one was before.
  bool is_taken(uint32_t cluster) const { return taken_.contains(cluster); }
  bool take(uint32_t cluster) { return taken_.insert(cluster).second; }
  void take(const std::vector<VolumeRange>& where);

  // What to do with a folder whose chain is gone. Before settle() one that is full to its end is
  // kept, to be given back by that: true. Afterwards it is gone on with.
  bool hold(OpenFolder& folder);
  // Settles what all folders that were held go on with, those included that only they lead to;
  // gives back the folders. Each is to be gone on with just before it is read.
  std::vector<OpenFolder> settle();
  void go_on(OpenFolder& folder);

  // Appends the later clusters of a former folder, if its chain is left in some table: then each of
  // them looks like the inside of a folder.
  bool follow_left_chain(OpenFolder& folder);

 private:
  Content load_cluster(uint32_t cluster) const;
  std::vector<Inside> insides_behind(const std::vector<FolderEnd>& ends,
                                     std::vector<uint32_t>& heads);
  void list_folders(std::span<const DirectoryEntry> entries, std::vector<uint32_t>& first) const;
  void add_unread(std::vector<uint32_t> heads, std::vector<FolderEnd>& ends);
  std::vector<uint32_t> inside_clusters(const std::vector<FolderEnd>& ends);
  std::optional<uint32_t> parent_of(const Content& content) const;

  const Geometry& geometry_;
  const chained::Heap& heap_;
  Table& table_;
  const Found& found_;
  std::unordered_set<uint32_t> taken_;
  std::vector<OpenFolder> held_;
  bool is_settled_ = false;
  std::unordered_map<uint32_t, std::vector<uint32_t>> later_;  // clusters, by the folder's first
};

}  // namespace undershelf::fat
