// Where what was selected stands when it is written, or shown, as folders and files: the one place
// that turns rows into paths a target can hold.
#pragma once

#include <cstdint>
#include <functional>
#include <string>
#include <unordered_map>
#include <unordered_set>
#include <vector>

#include "access/safe_names.h"
#include "model/ids.h"
#include "shelf/selection.h"

namespace undershelf {

enum class FolderLayout {
  tree,  // a folder for each volume, and in it the folders as they were
  type,  // a folder for each type of file, without others in it
  flat,  // all files in one folder
};

struct PathRules {
  NameRules names;
  FolderLayout layout = FolderLayout::tree;
  bool original_paths = false;   // out of trash folders, to where they were
  bool forks_in_doubles = true;  // resource forks lie in AppleDouble files beside the files
};

// The row is a resource fork that is written as an AppleDouble file.
bool is_double(const Row& row, const PathRules& rules);

// Gives each row of a selection one path, no two files the same, whatever the order in which it is
// asked: of several files on one path that of the lowest id has it, and ` [id N]` is added to the
// names of the others; a folder has its path before any file. Holds 8 bytes a row besides. Safe to
// be asked from several threads.
class WrittenPaths {
 public:
  // Goes through the rows twice where names collide, else once. `visit`: is called with each, as
  // `each_place` does.
  WrittenPaths(
      const Shelf& shelf, const Selection& selection, const PathRules& rules,
      const std::function<void(const Row&)>& visit = [](const Row&) {});

  // Parts joined by `/`, none in front: as the layout has it; in a tree a folder for the volume (or
  // `carved`), then the path. Of a folder, which only a tree has, it ends in `/`. `row` must be one
  // of the selection.
  std::string of(const Row& row) const { return of(row, true_path(row)); }
  // Likewise, where its true path is known.
  std::string of(const Row& row, const std::string& true_path) const;
  // The same without regard to what the target can hold and to what else stands there.
  std::string true_path(const Row& row) const;

 private:
  using Hash = uint64_t;
  Hash hash_of(std::string path) const;  // the same for paths that are the same on the target
  std::string plain(const Row& row, const std::string& true_path) const;
  void name_colliding(const Shelf& shelf, const Selection& selection,
                      const std::vector<Hash>& files, const std::unordered_set<Hash>& folders);

  PathRules rules_;
  std::unordered_map<VolumeId, std::string> volumes_;  // their folders
  // Paths of files that cannot have their plain one, by hash_of_row.
  std::unordered_map<Hash, std::string> others_;
};

}  // namespace undershelf
