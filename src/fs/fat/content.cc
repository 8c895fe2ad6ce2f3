#include "fs/fat/content.h"

#include <algorithm>

namespace undershelf::fat {

namespace {

bool has_alias(const DirectoryEntry& entry) {
  return std::ranges::find(entry.DIR_Name, u8{'~'}) != std::end(entry.DIR_Name);
}

}  // namespace

bool begins_within_name(const DirectoryEntry& first) {
  if (!is_long_slot(first)) return has_alias(first);
  // A deleted slot lost what tells.
  return first.DIR_Name[0] != kDeleted && (first.DIR_Name[0] & kLastLongEntry) == 0;
}

Step step_between(std::span<const DirectoryEntry> before, std::span<const DirectoryEntry> after) {
  constexpr size_t kMostSlots = 20;
  const auto short_at = std::ranges::find_if_not(after, is_long_slot);
  if (short_at == after.end() || short_at->DIR_Name[0] == 0) return Step::none;
  const auto behind = static_cast<size_t>(short_at - after.begin());
  const auto tail = before.last(std::min(kMostSlots, before.size()));
  std::vector<DirectoryEntry> joined(tail.begin(), tail.end());
  const bool pending = is_long_slot(joined.back());
  const size_t kept = joined.size();
  joined.insert(joined.end(), after.begin(), short_at + 1);
  bool broken = false;
  const bool marked = short_at->DIR_Name[0] == kDeleted;
  const auto name = long_name(joined, kept + behind, marked, &broken);
  // Pending slots must be used up; a name that starts in `after` needs none from `before`.
  if (pending) return name && name->slots > behind ? Step::proven : Step::none;
  if ((name && name->slots > behind) || begins_within_name(after.front())) return Step::none;
  // A deleted name that fills its slots to the last unit, at the very start, was probably cut.
  return behind > 0 && marked && name && !name->ended ? Step::doubtful : Step::fits;
}

Content load_start(const Source& volume, const Geometry& geometry, uint32_t cluster) {
  Content content;
  content.append(volume, {geometry.offset_of(cluster), 2 * sizeof(DirectoryEntry)});
  return content;
}

bool begins_folder(std::span<const DirectoryEntry> entries, uint32_t cluster,
                   const Geometry& geometry) {
  return entries.size() >= 2 && is_dot(entries[0]) &&
         first_cluster(entries[0], geometry) == cluster && is_dot_dot(entries[1]);
}

}  // namespace undershelf::fat
