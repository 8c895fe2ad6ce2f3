// What was selected as a tree of folders and files, with the paths an export would give them: what
// a mounted folder shows. It is as the shelf was when it was made.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "access/written_paths.h"
#include "model/ids.h"
#include "model/time.h"
#include "shelf/selection.h"

namespace undershelf {

class View {
 public:
  struct Node {
    std::string name;
    uint32_t parent = 0;
    uint32_t first = 0, end = 0;  // of a folder: its children
    bool folder = false;
    bool is_double = false;  // a resource fork in an AppleDouble file
    EntryId entry{};
    StreamId stream{};
    uint64_t size = 0;  // bytes of the file
    std::optional<Time> modified, accessed;
  };
  struct Sum {
    uint64_t files = 0;
    uint64_t bytes = 0;
  };

  // `even_gone`: files rated gone as well. Holds a node for each file and folder.
  View(const Shelf& shelf, const Selection& selection, const PathRules& rules, bool even_gone);

  // Node 0 is the root, its own parent. Children of a folder are nodes [first, end), by name.
  const Node& at(uint32_t index) const { return nodes_[index]; }
  // A folder's child of that name, if it has one.
  std::optional<uint32_t> child(uint32_t folder, std::string_view name) const;
  Sum sum() const { return sum_; }

 private:
  void order();

  std::vector<Node> nodes_;  // the root, then the children of each folder together
  Sum sum_;
};

}  // namespace undershelf
