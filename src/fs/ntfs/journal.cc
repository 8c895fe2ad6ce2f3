#include "fs/ntfs/journal.h"

#include <algorithm>
#include <cstring>

namespace undershelf::ntfs {
namespace {

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

// The length of the record at the beginning of `bytes`, if it is one beyond doubt; else 0.
size_t length_of_change(std::span<const std::byte> bytes) {
  constexpr int64_t kYear1990 = 631'152'000LL * kTicksPerSecond;
  constexpr int64_t kYear2200 = 7'258'118'400LL * kTicksPerSecond;
  const auto head = load<ChangeRecordHead>(bytes, 0);
  if (!head) return 0;
  const unsigned major = head->major_version.value();
  if ((major != 2 && major != 3) || head->minor_version.value() != 0) return 0;
  const size_t tail_at = sizeof(ChangeRecordHead) + (major == 2 ? 16 : 32);
  const auto tail = load<ChangeRecordTail>(bytes, tail_at);
  const auto file = load<le64>(bytes, sizeof(ChangeRecordHead));
  if (!tail || number_of(file->value()) == 0) return 0;
  const size_t length = head->length.value();
  const size_t name_at = tail_at + sizeof(ChangeRecordTail);
  const size_t name_length = tail->name_length.value();
  const std::optional<Time> time = to_time(tail->time.value());
  const bool fits = tail->name_offset.value() == name_at && name_length > 0 &&
                    name_length % 2 == 0 && name_length <= 2 * 255 &&
                    length == (name_at + name_length + 7) / 8 * 8 && length <= bytes.size();
  const bool dated = time && time->ticks > kYear1990 && time->ticks < kYear2200;
  return fits && dated && tail->reason.value() != 0 ? length : 0;
}

// Copies of base records as they are in memory: without fix-ups.
void find_records(std::span<const std::byte> bytes, size_t record_size,
                  const std::function<void(const Record&)>& visit) {
  for (size_t at = 0; at + sizeof(RecordHeader) <= bytes.size(); at += 8) {
    if (std::memcmp(bytes.data() + at, "FILE", 4) != 0) continue;
    Record record;
    record.header = *load<RecordHeader>(bytes, at);
    const size_t used = record.header.bytes_in_use.value();
    if (record.header.usa_offset.value() != sizeof(RecordHeader) ||
        record.header.bytes_allocated.value() != record_size || used > record_size ||
        used > bytes.size() - at || record.header.base_record.value() != 0 ||
        record.header.sequence.value() == 0) {
      continue;
    }
    record.bytes = bytes.subspan(at, used);
    visit(record);
  }
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

size_t length_of_changes(std::span<const std::byte> page) {
  constexpr size_t kStep = 512;
  size_t at = 0;
  while (at < page.size()) {
    const size_t length = length_of_change(page.subspan(at));
    if (length == 0) break;
    at += length;
  }
  return (at + kStep - 1) / kStep * kStep;
}

void read_log(const Source& log, size_t record_size, const Sight& sight,
              const std::function<void(const Record&)>& copied) {
  constexpr uint64_t kMostBytes = 1ULL << 30;
  // A log record may go on in the next page, behind that page's header of 0x40 bytes.
  constexpr size_t kPageHeader = 0x40;
  constexpr size_t kDrain = 1 << 20;
  std::vector<std::byte> page(kPage);
  std::vector<std::byte> payload;
  const auto drain = [&] {
    read_index_slack(payload, 0, 0, sight);
    find_records(payload, record_size, copied);
    // What begins near the end may go on behind it.
    const size_t kept = std::min(payload.size(), 2 * kPage);
    payload.erase(payload.begin(), payload.end() - static_cast<ptrdiff_t>(kept));
  };
  for (uint64_t at = 0; at < std::min(log.size(), kMostBytes); at += kPage) {
    log.read(at, page);
    if (std::memcmp(page.data(), "RCRD", 4) != 0) continue;
    apply_fixups(page);
    payload.insert(payload.end(), page.begin() + kPageHeader, page.end());
    if (payload.size() >= kDrain) drain();
  }
  drain();
}

}  // namespace undershelf::ntfs
