// What an export will take of what was selected, and whether the target has room for it.
#pragma once

#include <string>
#include <vector>

#include "exporting/bag.h"
#include "exporting/target.h"

namespace undershelf {

struct ExportPlan {
  FileSum selected;
  FileSum gone;                      // of these, left out, as nothing of their content is left
  FileSum too_large;                 // likewise, as the target holds no such files
  FileSum wanted;                    // the rest; bytes: once for each content
  std::vector<std::string> refused;  // a sentence for each file that is too large
  uint64_t room() const;             // bytes that it takes on the target, with lists and folders
};

bool is_left_out_as_gone(const Row& row, const ExportOptions& options);
bool is_too_large(const Row& row, const Target& target);
// The content of the row is all there, and is told by a hash, so that one copy of it does for all
// rows that have the same.
bool can_share_content(const Row& row);

// Adds a row of the selection, as `each_place` has it, to the plan.
void add_to_plan(ExportPlan& plan, const Row& row, const ExportOptions& options,
                 const Target& target);
// Of a plan to which all rows were added: what is wanted several times, and written once, counts
// once. Throws Error (incomplete) if there is nothing to be written.
void settle_plan(ExportPlan& plan, const Shelf& shelf, const Selection& selection,
                 const ExportOptions& options, const Target& target);
// Throws Error (refused).
void require_room(const ExportPlan& plan, const Target& target);

}  // namespace undershelf
