#include "fs/exfat/entries.h"

#include "model/text.h"

namespace undershelf::exfat {
namespace {

// Sections 7.4.8 to 7.4.10. An offset counts only if its bit 7 is set; else the time is local.
std::optional<Time> to_time(uint32_t stamp, unsigned ten_ms, u8 offset, const Zone& zone) {
  CivilTime civil;
  civil.year = 1980 + static_cast<int>(stamp >> 25);
  civil.month = stamp >> 21 & 0x0F;
  civil.day = stamp >> 16 & 0x1F;
  civil.hour = stamp >> 11 & 0x1F;
  civil.minute = stamp >> 5 & 0x3F;
  civil.second = (stamp & 0x1F) * 2;
  auto found = from_civil(civil);
  if (!found) return std::nullopt;
  if (ten_ms < 200) found->ticks += static_cast<int64_t>(ten_ms) * (kTicksPerSecond / 100);
  if ((offset & 0x80) == 0) return zone.to_utc(*found);
  // Seven bits with sign, in quarters of an hour.
  const int quarters = (offset & 0x7F) - ((offset & 0x40) != 0 ? 128 : 0);
  found->ticks -= int64_t{quarters} * 15 * 60 * kTicksPerSecond;
  return found;
}

}  // namespace

std::optional<Time> created_time(const FileEntry& file, const Zone& zone) {
  return to_time(file.CreateTimestamp.value(), file.Create10msIncrement, file.CreateUtcOffset,
                 zone);
}

Entry entry_from(const EntrySet& set, uint64_t key, State state, const Zone& zone) {
  Entry entry;
  entry.key = key;
  entry.kind = set.folder() ? Kind::folder : Kind::file;
  entry.state = state;
  const u8 type = set.has_file ? set.file.EntryType : set.stream.EntryType;
  entry.marked_deleted = (type & kInUse) == 0;
  // A rename leaves a set behind, as deletion does.
  if (entry.state != State::live) entry.proof = Proof::unsure;
  entry.name = name_from_utf16(set.name);
  if (!set.verified) {
    entry.name.exact = false;
    entry.evidence.push_back({"set-damaged", 0});
  }
  if (set.others > 0) entry.evidence.push_back({"vendor-entries", set.others});
  if (!set.has_file) {
    entry.evidence.push_back({"set-cut", 0});
    return entry;
  }
  const FileEntry& file = set.file;
  entry.hidden = (file.FileAttributes.value() & kHiddenAttribute) != 0;
  entry.created = created_time(file, zone);
  entry.modified = to_time(file.LastModifiedTimestamp.value(), file.LastModified10msIncrement,
                           file.LastModifiedUtcOffset, zone);
  entry.accessed = to_time(file.LastAccessedTimestamp.value(), 0, file.LastAccessedUtcOffset, zone);
  return entry;
}

}  // namespace undershelf::exfat
