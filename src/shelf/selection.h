// Choosing rows of the shelf: the filters that all commands share.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <vector>

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
  std::optional<std::string> rating;  // this or better
  std::vector<Between<uint64_t>> sizes;
  std::vector<Between<Time>> modified, created, accessed, deleted;
  std::vector<int64_t> volumes, ids;
  bool system = false;         // a file system's own files too
  bool with_contents = false;  // a folder chosen by id or path brings what is in it
  bool secondary = true;       // streams other than the main one too
  std::string sort;            // a field of Row as in `list`; empty: volume, then path
  std::optional<uint64_t> limit;
};

// Each reads one value as users write it. Throws Error (usage) with what would be right.
// Sizes: A..B, A.., ..B or A; K, M and G count in 1024.
Between<uint64_t> parse_sizes(const std::string& text);
// Dates: A..B and so on; 2026, 2026-03, 2026-03-04 (all of it, in `zone`),
// 2026-03-04T10:20, 2026-03-04T10:20:30, with Z or an offset where UTC is meant.
Between<Time> parse_times(const std::string& text, const Zone& zone);
// Throws Error (usage) if `value` is none of `known`.
void require_known(const std::string& option, const std::string& value,
                   const std::vector<std::string>& known);
const std::vector<std::string>& sort_fields();

// One line of a list: a file, folder or secondary stream.
struct Row {
  int64_t id = 0;
  int64_t stream_id = 0;  // 0: no stream
  std::optional<int64_t> volume;
  std::string path, name, kind, state;
  bool path_exact = true;
  std::optional<std::string> stream;
  bool marked_deleted = false;
  std::optional<uint64_t> size;
  std::optional<Time> created, modified, accessed, deleted;
  std::optional<std::string> original_path, type, rating;
  std::optional<int> score;
  std::optional<uint64_t> intact_bytes;
  std::string raw_name;  // bytes; empty if `name` says all
  std::optional<int64_t> parent;

  // False if nothing tells the size, which then is 0: where only a journal or a thread names a
  // file.
  bool size_known() const { return size && !(*size == 0 && rating == "gone"); }
};

// Calls `visit` with each row that is selected, in order, until it returns false.
void each_row(const Shelf& shelf, const Selection& selection,
              const std::function<bool(Row&&)>& visit);
uint64_t count_rows(const Shelf& shelf, const Selection& selection);

// How much a selection comes to.
struct Totals {
  uint64_t rows = 0;
  uint64_t bytes = 0;  // logical, of all streams
};
// Of the rows rated `gone`, and of all others.
struct TotalsByLoss {
  Totals gone, others;
};
TotalsByLoss total_rows(const Shelf& shelf, const Selection& selection);

// The id itself, or that of the entry into which it was merged. Throws Error (usage) if the shelf
// has no such id.
int64_t resolve_id(const Shelf& shelf, int64_t id);

}  // namespace undershelf
