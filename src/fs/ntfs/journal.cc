#include "fs/ntfs/journal.h"

#include <algorithm>
#include <cstring>

namespace undershelf::ntfs {
namespace {

constexpr size_t kPage = 4096;  // bytes

// The record at `offset` of a page, and its length; length 0 if there is none.
size_t parse_change(std::span<const std::byte> page, size_t offset, Sighting& found) {
  const auto head = load<ChangeRecordHead>(page, offset);
  if (!head) return 0;
  const size_t length = head->length.value();
  const unsigned major = head->major_version.value();
  if ((major != 2 && major != 3) || head->minor_version.value() != 0 || length % 8 != 0 ||
      length > page.size() - offset) {
    return 0;
  }
  const auto record = page.subspan(offset, length);
  const size_t reference_size = major == 2 ? 8 : 16;
  const size_t tail_at = sizeof(ChangeRecordHead) + 2 * reference_size;
  const auto file = load<le64>(record, sizeof(ChangeRecordHead));
  const auto parent = load<le64>(record, sizeof(ChangeRecordHead) + reference_size);
  const auto tail = load<ChangeRecordTail>(record, tail_at);
  if (!tail) return 0;
  const size_t name_at = tail->name_offset.value();
  const size_t name_length = tail->name_length.value();
  if (name_length == 0 || name_length % 2 != 0 || name_at < tail_at + sizeof(ChangeRecordTail) ||
      name_at + name_length > length) {
    return 0;
  }
  found = {};
  found.reference = file->value();
  found.name.parent = parent->value();
  found.name.text = utf16_at(record, name_at, name_length / 2);
  found.name.folder = (tail->file_attributes.value() & 0x10) != 0;
  found.seen = to_time(tail->time.value());
  const uint32_t reason = tail->reason.value();
  if ((reason & kReasonDeleted) != 0) found.deleted = found.seen;
  // An old name was left at that moment: the new one, of the same time, counts more.
  if ((reason & kReasonOldName) != 0 && found.seen) --found.seen->ticks;
  return found.seen ? length : 0;
}

}  // namespace

void read_change_journal(const Source& journal, const std::vector<ByteRange>& parts,
                         const Sight& sight) {
  std::vector<std::byte> block(1 << 20);
  for (const ByteRange& part : parts) {
    for (uint64_t base = part.offset / kPage * kPage; base < part.end(); base += block.size()) {
      const auto bytes =
          std::span(block).first(std::min<uint64_t>(block.size(), part.end() - base));
      journal.read(base, bytes);
      for (size_t begin = 0; begin < bytes.size(); begin += kPage) {
        const auto page = bytes.subspan(begin, std::min(kPage, bytes.size() - begin));
        Sighting found;
        for (size_t at = 0; at + sizeof(ChangeRecordHead) <= page.size();) {
          const size_t length = parse_change(page, at, found);
          if (length > 0) sight(found);
          at += std::max<size_t>(length, 8);
        }
      }
    }
  }
}

void read_log(const Source& log, const Sight& sight) {
  constexpr uint64_t kMostBytes = 1ULL << 30;
  // A record may go on in the next page, behind that page's header of 0x40 bytes.
  constexpr size_t kPageHeader = 0x40;
  std::vector<std::byte> page(kPage);
  std::vector<std::byte> stream;
  const auto drain = [&] {
    read_index_slack(stream, 0, 0, sight);
    stream.clear();
  };
  for (uint64_t at = 0; at < std::min(log.size(), kMostBytes); at += kPage) {
    log.read(at, page);
    if (std::memcmp(page.data(), "RCRD", 4) != 0) continue;
    apply_fixups(page);
    stream.insert(stream.end(), page.begin() + kPageHeader, page.end());
    if (stream.size() >= 1 << 20) drain();
  }
  drain();
}

}  // namespace undershelf::ntfs
