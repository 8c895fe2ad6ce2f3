#include "fs/ntfs/index.h"

#include <algorithm>

namespace undershelf::ntfs {
namespace {

size_t rounded_up(size_t bytes) { return (bytes + 7) / 8 * 8; }

// Whether a name that was found, and not looked for by its place, can be one.
bool is_believable(const FoundName& name) {
  constexpr int64_t kYear1980 = 315'532'800LL * kTicksPerSecond;
  if (number_of(name.parent) == 0 || *name.size >= 1ULL << 48) return false;
  for (const auto& time : {name.created, name.modified, name.accessed}) {
    if (!time || time->ticks < kYear1980) return false;
  }
  return std::ranges::none_of(name.text, [](char16_t c) { return c == 0 || c == u'/'; });
}

// Whether the head of an index entry fits the name that follows it.
bool head_fits(const IndexEntry& head, const FoundName& name) {
  const size_t key = sizeof(FileName) + 2 * name.text.size();
  const size_t length = rounded_up(sizeof(IndexEntry) + key);
  return head.key_length.value() == key &&
         (head.length.value() == length || head.length.value() == length + 8) &&
         (head.flags.value() & ~1U) == 0 && number_of(head.reference.value()) != 0;
}

std::optional<Time> changed_time(std::span<const std::byte> value) {
  const auto fields = load<FileName>(value);
  return fields ? to_time(fields->record_changed.value()) : std::nullopt;
}

}  // namespace

void read_index_slack(std::span<const std::byte> bytes, size_t before, uint64_t folder,
                      const Sight& sight) {
  constexpr size_t kHead = sizeof(IndexEntry);
  const size_t begin = rounded_up(before);
  for (size_t at = begin - std::min(begin, kHead); at + kHead + sizeof(FileName) <= bytes.size();) {
    const auto value = bytes.subspan(at + kHead);
    auto name = parse_file_name(value);
    if (!name || !is_believable(*name)) {
      at += 8;
      continue;
    }
    Sighting found;
    const auto head = load<IndexEntry>(bytes, at);
    const bool whole = at >= begin && head && head_fits(*head, *name);
    if (!whole && number_of(name->parent) != folder) {
      at += 8;
      continue;
    }
    if (whole) found.reference = head->reference.value();
    found.seen = changed_time(value);
    found.name = std::move(*name);
    at += rounded_up(kHead + sizeof(FileName) + 2 * found.name.text.size());
    sight(found);
  }
}

bool read_index_node(std::span<const std::byte> node, uint64_t folder, bool in_use,
                     const Sight& sight) {
  const auto header = load<IndexHeader>(node);
  size_t at = sizeof(IndexHeader);
  bool sound = header.has_value();
  if (sound) {
    at = header->entries_offset.value();
    const size_t end = header->index_length.value();
    sound = at >= sizeof(IndexHeader) && end <= node.size() && at <= end;
    bool ended = false;
    while (sound && !ended) {
      const auto entry = load<IndexEntry>(node.first(end), at);
      const size_t length = entry ? entry->length.value() : 0;
      if (length < sizeof(IndexEntry) || length % 8 != 0 || length > end - at) {
        sound = false;
        break;
      }
      ended = (entry->flags.value() & kIndexEntryEnd) != 0;
      if (!ended) {
        const auto value = node.subspan(at + sizeof(IndexEntry), length - sizeof(IndexEntry));
        if (auto name = parse_file_name(value)) {
          const auto seen = changed_time(value);
          sight({entry->reference.value(), std::move(*name), in_use, seen, std::nullopt});
        } else {
          sound = false;
          break;
        }
      }
      at += length;
    }
    if (!sound) at = std::clamp(at, sizeof(IndexHeader), node.size());
  }
  read_index_slack(node, at, folder, sight);
  return sound;
}

}  // namespace undershelf::ntfs
