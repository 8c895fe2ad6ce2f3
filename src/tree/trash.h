// What trash folders remember: where a file was, and when it was deleted.
#pragma once

#include <optional>
#include <span>
#include <string>
#include <vector>

#include "model/time.h"

namespace undershelf {

class Shelf;
class Spaces;

struct TrashRecord {
  std::string original_path;    // from the volume's root, parts joined by `/`
  std::optional<Time> deleted;  // UTC
};

// `$I` files of Windows, version 1 (Vista) and 2 (10): size, time, path.
std::optional<TrashRecord> parse_recycle_info(std::span<const std::byte> content);

struct Info2Record : TrashRecord {
  std::string stored_stem;  // the name it has in the bin, without its extension: "Dc1"
};
// `INFO2` of older Windows: a header of 20 bytes, then records of 280 or 800 bytes.
std::vector<Info2Record> parse_info2(std::span<const std::byte> content);

// `.trashinfo`, freedesktop Trash specification 1.0. Its times are local, in `zone`.
std::optional<TrashRecord> parse_trashinfo(std::span<const std::byte> content, const Zone& zone);

// Finds trash folders in the shelf, living and deleted ones, reads their records, and stores
// `original_path` and `deleted` of the files they speak of, and of all that is in trashed folders.
// Repeatable.
void read_trash(Shelf& shelf, Spaces& spaces, const Zone& zone);

}  // namespace undershelf
