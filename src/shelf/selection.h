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
  bool match_case = false;
  std::vector<std::string> extensions, types, states, kinds;
  std::vector<std::string> ratings;
  std::vector<Between<uint64_t>> sizes;
  std::vector<Between<Time>> modified, created, accessed, deleted;
  std::vector<VolumeId> volumes;
  std::vector<EntryId> ids;
  std::vector<EntryId> parents;  // only what lies in these folders, not what lies deeper
  bool system = false;           // a file system's own files too
  bool trashed = false;          // only what lies in a trash folder
  bool with_contents = true;     // a folder chosen by id or path brings what is in it
  bool links = true;             // further hard links too, each as a row of its own
  bool secondary = true;         // streams other than the main one too
  std::string sort;              // a field of Row as in `list`; empty: volume, then path
  bool descending = false;
  std::optional<uint64_t> limit;
};

// Each reads one value as users write it. Throws Error (usage) with what would be right.
// Sizes: A..B, A.., ..B or A; K, M, G and T count in 1024, and may follow a fraction.
Between<uint64_t> parse_sizes(const std::string& text);
// One number of bytes, as 4096 or 1.5M, for the option that `what` names.
uint64_t parse_bytes(const std::string& what, const std::string& text);
// Dates: A..B and so on; 2026, 2026-03, 2026-03-04 (all of it, in `zone`),
// 2026-03-04T10:20, 2026-03-04T10:20:30, with Z or an offset where UTC is meant.
Between<Time> parse_times(const std::string& text, const Zone& zone);
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

// How much a selection comes to. All counts that users are told come from here.
struct Totals {
  uint64_t files = 0, folders = 0, streams = 0;  // rows; streams: secondary ones
  uint64_t links = 0;                            // of the files: further hard links
  uint64_t bytes = 0;       // logical, of files and streams whose size is known
  uint64_t link_bytes = 0;  // of these: of further hard links, whose content is there already
  uint64_t content() const { return files + streams; }
};
// Rows rated `gone`, and all others.
struct TotalsByLoss {
  Totals gone, others;
};
// Files of a volume, as `list --kind file` has them. `trashed`: of the living ones, those that lie
// in a trash folder.
struct VolumeFiles {
  VolumeId volume{};
  int64_t live = 0, deleted = 0, former = 0, trashed = 0;
};
std::vector<VolumeFiles> files_by_volume(const Shelf& shelf);

Totals total_rows(const Shelf& shelf, const Selection& selection);
TotalsByLoss total_by_loss(const Shelf& shelf, const Selection& selection);

// The id itself, or that of the entry into which it was merged. Throws Error (usage) if the shelf
// has no such id.
EntryId resolve_id(const Shelf& shelf, EntryId id);

}  // namespace undershelf
