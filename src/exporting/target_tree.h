// The folders of a bag on its target. No operation follows a link: a link in the way of a folder is
// removed (the link, never what it leads to), and a new folder takes its place. For the exporting
// folder's own use.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "exporting/target_file.h"
#include "model/time.h"

namespace undershelf {

// Paths are relative to the root, with their parts joined by `/`. All throw TargetFailed (errno) if
// the target fails. Not to be shared between threads; several may work on one root.
class TargetTree {
 public:
  // `root` must exist.
  explicit TargetTree(const std::string& root);
  int root() const { return root_.get(); }

  // Makes a folder, with those above it.
  void make_folder(std::string_view path);
  // A new file for writing; what is there under its name must not be. errno if that failed.
  Descriptor create(const std::string& path);
  Descriptor open_to_read(const std::string& path);  // a regular file; not ok() if there is none
  void remove(const std::string& path);              // a file or link, if there is one
  // Moves a file, over whatever file or link is at `to`; makes the folders above.
  void move(const std::string& from, const std::string& to);
  // One more name of a file. False if the target has none, or not for this file.
  bool link(const std::string& from, const std::string& to);
  // Where the target has no links. False if that failed.
  bool copy(const std::string& from, const std::string& to, std::vector<std::byte>& buffer);
  // Moves the file at `path` below the folder `staged` to `path`, over whatever file or link is
  // there; where one of its folders is not there yet, that one at once with all that it holds.
  void place(const std::string& staged, const std::string& path);
  void set_modified(const std::string& folder, const std::optional<Time>& time);

 private:
  enum class Missing { make, fail };
  // The folder at `path`; not ok() if it is not there and was not to be made.
  const Descriptor& folder(std::string_view path, Missing missing);
  Descriptor step_into(int parent, const std::string& name, Missing missing) const;

  Descriptor root_;
  std::string last_path_;  // of the folder that was asked for last
  std::optional<Descriptor> last_;
  // Of place():
  std::string come_along_;   // below this, all was moved with its folder
  std::string last_placed_;  // the folder, staged, of the last file that was moved by itself
  std::optional<Descriptor> place_from_, place_to_;  // its two places
};

}  // namespace undershelf
