#include "fs/ntfs/index.h"

#include <algorithm>
#include <cstddef>

namespace undershelf::ntfs {
namespace {

size_t rounded_up(size_t bytes) { return (bytes + 7) / 8 * 8; }

// Of a name's first bytes, so many may be newer things: the time of the last change is then the
// first field that is told.
constexpr size_t kMostOverwritten = offsetof(FileName, modified);

// None, or a date: files have any from 1601 on.
bool is_date(const le64& stored) { return stored.value() == 0 || to_time(stored.value()); }

// A name that was found, and not looked for by its place, if it can be one. Its first `overwritten`
// bytes are not its own any more; it was in `folder`, then.
std::optional<FoundName> parse_remnant(std::span<const std::byte> value, size_t overwritten,
                                       uint64_t folder) {
  constexpr uint32_t kKnownAttributes = 0x3FFFFFFF;
  const auto fields = load<FileName>(value);
  auto name = parse_file_name(value);
  if (!name || *name->size >= 1ULL << 48 ||
      (fields->file_attributes.value() & ~kKnownAttributes) != 0 ||
      std::ranges::any_of(name->text, [](char16_t c) { return c < 0x20 || c == u'/'; })) {
    return std::nullopt;
  }
  if (overwritten > offsetof(FileName, parent)) name->parent = make_reference(folder, 0);
  if (overwritten > offsetof(FileName, created)) name->created.reset();
  const bool sound = number_of(name->parent) != 0 && is_date(fields->accessed) &&
                     is_date(fields->modified) &&
                     (overwritten > offsetof(FileName, created) || is_date(fields->created));
  return sound ? name : std::nullopt;
}

// Whether the head of an index entry fits the name that follows it.
bool head_fits(const IndexEntry& head, const FoundName& name) {
  const size_t key = sizeof(FileName) + 2 * name.text.size();
  const size_t length = rounded_up(sizeof(IndexEntry) + key);
  return head.key_length.value() == key &&
         (head.length.value() == length || head.length.value() == length + 8) &&
         (head.flags.value() & ~1U) == 0 && number_of(head.reference.value()) != 0;
}

// Whether the mark of an index's end stands there.
bool is_end(std::span<const std::byte> bytes, size_t at) {
  const auto entry = load<IndexEntry>(bytes, at);
  return entry && entry->length.value() == sizeof(IndexEntry) && entry->key_length.value() == 0 &&
         entry->flags.value() == kIndexEntryEnd;
}

// Whether an index goes on or ends there. Behind the name of a record, by contrast, which may have
// been used for another file before, attributes follow.
bool goes_on_at(std::span<const std::byte> bytes, size_t at) {
  if (is_end(bytes, at)) return true;
  const auto head = load<IndexEntry>(bytes, at);
  const auto value = bytes.subspan(std::min(bytes.size(), at + sizeof(IndexEntry)));
  const auto name = parse_file_name(value);
  return head && name && head_fits(*head, *name);
}

// How many of the bytes from `at` on are newer than what stands there: up to `clean` all are, and
// the mark of an end that an older state of the index had may lie across; in a record, that of its
// end follows.
size_t overwritten_at(std::span<const std::byte> bytes, size_t at, size_t clean) {
  constexpr size_t kMark = sizeof(IndexEntry);
  size_t overwritten = clean - std::min(clean, at);
  for (const size_t end : {at - kMark, at - 8, at, at + 8}) {
    if (!is_end(bytes, end)) continue;
    const auto next = load<le32>(bytes, end + kMark);
    const bool of_record = next && next->value() == kEnd;
    overwritten = std::max(overwritten, end + kMark + (of_record ? 8 : 0) - at);
  }
  return overwritten;
}

std::optional<Time> changed_time(std::span<const std::byte> value) {
  const auto fields = load<FileName>(value);
  return fields ? to_time(fields->record_changed.value()) : std::nullopt;
}

}  // namespace

void read_index_slack(std::span<const std::byte> bytes, size_t before, uint64_t folder,
                      const Sight& sight) {
  constexpr size_t kHead = sizeof(IndexEntry);
  constexpr size_t kBack = kHead + kMostOverwritten;
  size_t clean = rounded_up(before);
  for (size_t at = clean - std::min(clean, kBack); at + kHead + sizeof(FileName) <= bytes.size();) {
    const size_t overwritten = overwritten_at(bytes, at + kHead, clean);
    std::optional<FoundName> name;
    if (overwritten <= kMostOverwritten) {
      name = parse_remnant(bytes.subspan(at + kHead), overwritten, folder);
    }
    const auto head = load<IndexEntry>(bytes, at);
    const bool whole = name && at >= clean && overwritten == 0 && head && head_fits(*head, *name);
    const size_t end = name ? at + kHead + rounded_up(sizeof(FileName) + 2 * name->text.size()) : 0;
    if (!name || (!whole && number_of(name->parent) != folder) ||
        (overwritten > 0 && !goes_on_at(bytes, end))) {
      at += 8;
      continue;
    }
    Sighting found;
    if (whole) found.reference = head->reference.value();
    if (overwritten <= offsetof(FileName, record_changed)) {
      found.seen = changed_time(bytes.subspan(at + kHead));
    }
    clean = end;
    at = std::max(at + 8, clean - kBack);
    found.name = std::move(*name);
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
