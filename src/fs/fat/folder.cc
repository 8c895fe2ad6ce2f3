#include "fs/fat/folder.h"

#include <algorithm>
#include <cstring>

namespace undershelf::fat {
namespace {

std::optional<Time> date_and_time(uint16_t date, uint16_t time, uint8_t hundredths) {
  CivilTime civil;
  civil.year = 1980 + (date >> 9);
  civil.month = date >> 5 & 15;
  civil.day = date & 31;
  civil.hour = time >> 11;
  civil.minute = time >> 5 & 63;
  civil.second = (time & 31) * 2U;
  if (hundredths < 200) {
    civil.second += hundredths / 100U;
    civil.ticks = hundredths % 100U * 100'000U;
  }
  return from_civil(civil);
}

// All bits set stands for "not recorded" with some drivers; `strict` does not take that.
bool is_odd_date(const boost::endian::little_uint16_buf_t& date, uint16_t time, bool strict) {
  constexpr uint16_t kUnset = 0xFFFF;
  return date.value() != 0 && (strict || date.value() != kUnset) &&
         !date_and_time(date.value(), time, 0);
}

// Fields that no driver writes, whatever the volume.
int oddities(const DirectoryEntry& entry, bool strict) {
  const bool folder = (entry.DIR_Attr & kAttrDirectory) != 0;
  return int{is_odd_date(entry.DIR_WrtDate, entry.DIR_WrtTime.value(), strict)} +
         int{is_odd_date(entry.DIR_CrtDate, entry.DIR_CrtTime.value(), strict)} +
         int{is_odd_date(entry.DIR_LstAccDate, 0, strict)} +
         int{entry.DIR_CrtTimeTenth > 199 && (strict || entry.DIR_CrtTimeTenth != 0xFF)} +
         int{folder && entry.DIR_FileSize.value() != 0} +
         int{(entry.DIR_NTRes & ~(kLowerCaseBase | kLowerCaseExtension)) != 0};
}

// Those, and fields that cannot be on this volume. Their number decides whether the entry is
// believed.
int oddities(const DirectoryEntry& entry, const Geometry& geometry, bool strict) {
  const uint32_t cluster = first_cluster(entry, geometry);
  const uint32_t size = entry.DIR_FileSize.value();
  const bool folder = (entry.DIR_Attr & kAttrDirectory) != 0;
  return oddities(entry, strict) + int{cluster != 0 && !geometry.is_cluster(cluster)} +
         int{size > uint64_t{geometry.cluster_count} * geometry.cluster_size} +
         int{cluster == 0 && (size != 0 || folder)};
}

// Whether all bytes are such as the specification allows.
bool is_legal(const DirectoryEntry& entry) {
  const bool label = (entry.DIR_Attr & kAttrVolumeId) != 0;  // may be blank
  return (entry.DIR_Attr & kAttrReserved) == 0 &&
         (label || is_legal_short_name(std::span<const u8, 11>(entry.DIR_Name),
                                       entry.DIR_Name[0] == kDeleted));
}

bool is_believable(const DirectoryEntry& entry, const Geometry& geometry, Trust trust,
                   bool deleted) {
  if (!is_legal(entry)) return false;
  const int most = trust == Trust::candidate ? 0 : trust == Trust::deleted || deleted ? 1 : 3;
  return oddities(entry, geometry, trust == Trust::candidate) <= most;
}

// An entry that no driver should write, but all of whose numbers make sense: whether it is one,
// what it leads to must tell.
bool is_odd(const DirectoryEntry& entry, const Geometry& geometry) {
  const bool label = (entry.DIR_Attr & kAttrVolumeId) != 0;
  return !label && !is_legal(entry) && geometry.is_cluster(first_cluster(entry, geometry)) &&
         oddities(entry, geometry, true) == 0;
}

// A label that was taken away: some tools leave it in the root as an empty file. Drivers give every
// file they make its archive bit, and take none of the time from one field to the other.
bool is_former_label(const DirectoryEntry& entry, const Geometry& geometry, bool in_root) {
  if (entry.DIR_FileSize.value() != 0 || first_cluster(entry, geometry) != 0 ||
      entry.DIR_Name[0] != kDeleted) {
    return false;
  }
  const std::string_view rest(reinterpret_cast<const char*>(entry.DIR_Name) + 1, 10);
  const bool is_known = geometry.boot_label.size() > 1 &&
                        rest.starts_with(std::string_view(geometry.boot_label).substr(1));
  const bool is_bare = in_root && entry.DIR_Attr == 0 && entry.DIR_NTRes == 0 &&
                       entry.DIR_CrtDate.value() == entry.DIR_WrtDate.value() &&
                       entry.DIR_CrtTime.value() == entry.DIR_WrtTime.value();
  return is_known || is_bare;
}

// A deleted long name that fills its slots may have had more above them, used again since. It had
// none if there is no slot above, or what stands there is older than the entry itself.
bool is_complete_above(std::span<const DirectoryEntry> entries, size_t at, size_t slots) {
  if (at == slots) return true;
  const DirectoryEntry& above = entries[at - slots - 1];
  if (is_long_slot(above)) return false;
  if (is_dot_dot(above)) return true;
  const auto created = created_time(entries[at]);
  const auto created_above = created_time(above);
  return created && created_above && *created_above < *created;
}

bool is_all_zero(const DirectoryEntry& entry) {
  static constexpr char kZero[sizeof(DirectoryEntry)] = {};
  return std::memcmp(&entry, kZero, sizeof entry) == 0;
}

std::string label_of(const DirectoryEntry& entry, const CodePage& code_page) {
  std::string bytes(reinterpret_cast<const char*>(entry.DIR_Name), 11);
  if (entry.DIR_Name[0] == kKanjiE5) bytes[0] = static_cast<char>(0xE5);
  bytes.erase(bytes.find_last_not_of(' ') + 1);
  return name_from_utf16(code_page.decode(bytes)).text;
}

}  // namespace

FolderContent parse_folder(std::span<const DirectoryEntry> entries, const Geometry& geometry,
                           Trust trust, const CodePage& code_page) {
  FolderContent content;
  for (size_t i = 0; i < entries.size(); ++i) {
    const DirectoryEntry& raw = entries[i];
    if (raw.DIR_Name[0] == 0) {
      content.ended = true;
      continue;
    }
    if (is_long_slot(raw) || (i < 2 && (is_dot(raw) || is_dot_dot(raw)))) continue;
    const bool marked = raw.DIR_Name[0] == kDeleted;
    const bool deleted = marked || content.ended;
    const bool odd = trust != Trust::candidate && !content.ended && is_odd(raw, geometry);
    if (!odd && !is_believable(raw, geometry, content.ended ? Trust::candidate : trust, deleted)) {
      content.rejected += !deleted;
      continue;
    }
    if (is_former_label(raw, geometry, !is_dot(entries.front()))) continue;
    if ((raw.DIR_Attr & kAttrVolumeId) != 0) {
      if (!deleted && !content.label) content.label = label_of(raw, code_page);
      continue;
    }
    FolderEntry entry{i, raw, {}, deleted, marked, odd};
    bool broken = false;
    if (auto found = long_name(entries, i, marked, &broken)) {
      entry.name = std::move(found->name);
      if (marked && !found->ended && is_complete_above(entries, i, found->slots)) {
        entry.name.exact = entry.name.raw.empty();
      }
    } else {
      entry.name = short_name(raw, marked, code_page);
      entry.name.exact = entry.name.exact && !broken;
      content.broken_names += broken;
    }
    content.entries.push_back(std::move(entry));
  }
  return content;
}

bool looks_like_continuation(std::span<const DirectoryEntry> entries, const Geometry& geometry) {
  size_t believed = 0;
  bool ended = false;
  for (size_t i = 0; i < entries.size(); ++i) {
    const DirectoryEntry& raw = entries[i];
    if (raw.DIR_Name[0] == 0) {
      if (!is_all_zero(raw)) return false;  // drivers clear what they have not used
      ended = true;
    } else if (ended || (i < 2 && (is_dot(raw) || is_dot_dot(raw)))) {
      return false;
    } else if (is_long_slot(raw)) {
      const auto& slot = reinterpret_cast<const LongEntry&>(raw);
      if (slot.LDIR_Type != 0 || slot.LDIR_FstClusLO.value() != 0 ||
          (raw.DIR_Attr & kAttrReserved) != 0) {
        return false;
      }
    } else if (!is_believable(raw, geometry, Trust::candidate, true)) {
      return false;
    } else {
      ++believed;
    }
  }
  return believed > 0;
}

bool looks_like_entries(std::span<const DirectoryEntry> entries) {
  size_t believed = 0;
  for (const DirectoryEntry& raw : entries) {
    if (raw.DIR_Name[0] == 0) break;
    if ((raw.DIR_Attr & kAttrReserved) != 0) return false;
    if (is_long_slot(raw)) {
      const auto& slot = reinterpret_cast<const LongEntry&>(raw);
      const unsigned order = slot.LDIR_Ord & ~kLastLongEntry;
      const bool ordered = slot.LDIR_Ord == kDeleted || (order >= 1 && order <= 20);
      if (slot.LDIR_Type != 0 || slot.LDIR_FstClusLO.value() != 0 || !ordered) return false;
    } else if (!is_legal_short_name(std::span<const u8, 11>(raw.DIR_Name),
                                    raw.DIR_Name[0] == kDeleted) ||
               raw.DIR_WrtDate.value() == 0 || oddities(raw, true) > 0) {
      return false;
    }
    ++believed;
  }
  return believed > 0;
}

std::optional<Time> created_time(const DirectoryEntry& entry) {
  return date_and_time(entry.DIR_CrtDate.value(), entry.DIR_CrtTime.value(),
                       entry.DIR_CrtTimeTenth);
}

std::optional<Time> modified_time(const DirectoryEntry& entry) {
  return date_and_time(entry.DIR_WrtDate.value(), entry.DIR_WrtTime.value(), 0);
}

std::optional<Time> accessed_date(const DirectoryEntry& entry) {
  return date_and_time(entry.DIR_LstAccDate.value(), 0, 0);
}

}  // namespace undershelf::fat
