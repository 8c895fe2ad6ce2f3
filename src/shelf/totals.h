// How much a selection comes to. All counts that users are told come from here.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "model/ids.h"
#include "shelf/selection.h"

namespace undershelf {

struct Totals {
  uint64_t files = 0, folders = 0, streams = 0;  // rows; streams: secondary ones
  uint64_t links = 0;                            // of the files: further hard links
  uint64_t bytes = 0;  // logical, of files and streams whose size is known
  uint64_t content() const { return files + streams; }
};
// Files of a volume, as `list --kind file` has them. `trashed`: of the living ones, those that lie
// in a trash folder.
struct VolumeFiles {
  VolumeId volume{};
  int64_t live = 0, deleted = 0, former = 0, trashed = 0;
};
std::vector<VolumeFiles> files_by_volume(const Shelf& shelf);

Totals total_rows(const Shelf& shelf, const Selection& selection);

// What rows are put together by.
enum class By : uint8_t { type, extension, state, rating, folder, day, volume };
const std::vector<std::string>& by_names();
By by_named(const std::string& name);  // precondition: one of by_names()

// Rows that have one value in common, and what is to be expected of them.
struct Group {
  // The word, extension (without a dot, in lower case), path of the folder, or day of the last
  // change (2026-04-02, in the zone); empty where a row has none.
  std::string value;
  std::optional<VolumeId> volume;  // of a folder or volume
  Totals totals;
  // Files and streams by their rating; the rest are not rated yet.
  uint64_t whole = 0, likely = 0, partial = 0, gone = 0;
  // How many of them come back byte for byte, as their scores have it.
  double expected = 0;
  void add(const Group& more);  // its numbers
};
// Folders count in none. Words in their usual order, days and volumes in order, the others by
// bytes, the most first.
std::vector<Group> total_by(const Shelf& shelf, const Selection& selection, By by,
                            const Zone& zone);

// How many of each group to expect, in whole files that add up to those of all: rounded up where
// the most is lost by rounding down.
std::vector<uint64_t> whole_expectations(std::span<const Group> groups);

// All fields of a group, without begin() and end(). `by`: what the groups are of.
class Line;
void add_fields(Line& line, const std::string& by, const Group& group);

}  // namespace undershelf
