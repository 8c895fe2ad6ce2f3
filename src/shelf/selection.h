// Choosing rows of the shelf: the filters that all commands share.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "model/ids.h"
#include "model/time.h"
#include "shelf/shelf.h"

namespace undershelf {

// A range with both ends included; either may be lacking.
template <typename Value>
struct Between {
  std::optional<Value> from, to;
};

// Values in one list are alternatives; different filters must all hold.
struct Selection {
  std::vector<std::string> names, paths;  // globs
  bool match_case = false;                // of the globs
  std::vector<std::string> words;         // parts of names, in any case, with or without accents
  std::vector<std::string> extensions, types, states, kinds;
  std::vector<std::string> ratings;
  std::vector<Between<uint64_t>> sizes;
  std::vector<Between<Time>> modified, created, accessed, deleted;
  std::vector<VolumeId> volumes;
  std::vector<EntryId> ids;
  std::vector<EntryId> parents;  // only what lies in these folders, not what lies deeper
  bool system = false;           // a file system's own files too
  bool trashed = false;          // only what lies in a trash folder
  bool hidden = false;           // only what is hidden: by its attributes, or by a dot
  bool duplicates = false;       // only files whose content another file of the shelf has too
  bool with_contents = true;     // a folder chosen by id or path brings what is in it
  bool links = true;             // further hard links too, each as a row of its own
  bool secondary = true;         // streams other than the main one too
  std::string sort;              // a field of Row as in `list`; empty: volume, then path
  bool descending = false;
  // In place of that: by the ids of the folders, those at the root first, as an index has them.
  // Nothing is sorted.
  bool by_folder = false;
  std::optional<uint64_t> limit;
};

// Each reads one value as users write it. Throws Error (usage) with what would be right.
// Sizes: A..B, A.., ..B or A; K, M, G and T count in 1024, and may follow a fraction.
Between<uint64_t> parse_sizes(const std::string& text);
// One number of bytes, as 4096 or 1.5M, for the option that `what` names.
uint64_t parse_bytes(const std::string& what, const std::string& text);
// Dates: A..B and so on; 2026, 2026-03, 2026-03-04 (all of it, in `zone`),
// 2026-03-04T10:20, 2026-03-04T10:20:30, with Z or an offset where UTC is meant; today, yesterday,
// 7d: the day so many days before `now`, alone: from that day on.
Between<Time> parse_times(const std::string& text, const Zone& zone, Time now);
// Throws Error (usage) if `value` is none of `known`.
void require_known(const std::string& option, const std::string& value,
                   const std::vector<std::string>& known);
const std::vector<std::string>& sort_fields();

// One line of a list: a file, a folder, a secondary stream, or a further hard link of one.
struct Row {
  EntryId id{};
  StreamId stream_id{};  // 0: no stream
  std::optional<VolumeId> volume;
  std::string path, name, kind, state;
  bool path_exact = true;
  bool link = false;
  std::optional<std::string> stream;
  bool marked_deleted = false, trashed = false, encrypted = false;
  std::optional<uint64_t> size;  // nothing for folders, and where it is not known
  std::optional<Time> created, modified, accessed, deleted;
  std::optional<std::string> original_path, type, placement, rating;
  std::optional<std::string> check, format, sha256;  // nothing if it was not looked at to its end
  std::vector<std::string> former_paths;
  std::optional<int> score;
  std::optional<uint64_t> intact_bytes;
  std::string raw_name;  // bytes; empty if `name` says all
  std::optional<EntryId> parent;

  bool is_folder() const { return kind == "folder" && !stream; }
};

// Calls `visit` with each row that is selected, in order, until it returns false.
void each_row(const Shelf& shelf, const Selection& selection,
              const std::function<bool(const Row&)>& visit);

// Likewise, with those fields only that a tree shows: id, volume, path, kind, stream, state, size,
// rating and score. Sorted, it takes half of the time. To be sorted by volume and path only.
void each_outline(const Shelf& shelf, const Selection& selection,
                  const std::function<bool(const Row&)>& visit);

// Likewise, with those fields only that tell where a row stands and what a folder's listing says of
// it: id, stream_id, volume, path, kind, stream, link, original_path, type, size, modified,
// accessed and rating. Faster; in no order, unless there is a limit.
void each_place(const Shelf& shelf, const Selection& selection,
                const std::function<bool(const Row&)>& visit);

// The id itself, or that of the entry into which it was merged. Throws Error (usage) if the shelf
// has no such id.
EntryId resolve_id(const Shelf& shelf, EntryId id);

}  // namespace undershelf
