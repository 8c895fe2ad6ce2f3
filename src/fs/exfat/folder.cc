#include "fs/exfat/folder.h"

#include <algorithm>
#include <array>
#include <boost/endian/conversion.hpp>
#include <cstring>

namespace undershelf::exfat {
namespace {

constexpr size_t kUnitsPerEntry = 15;
constexpr unsigned kLeastSecondaries = 2;
constexpr unsigned kMostSecondaries = 18;

// Section 6.3.3, with the in-use bits put back.
uint16_t checksum_of(std::span<const DirectoryEntry> set) {
  uint16_t sum = 0;
  const auto bytes = std::as_bytes(set);
  for (size_t i = 0; i < bytes.size(); ++i) {
    if (i == 2 || i == 3) continue;
    auto byte = std::to_integer<unsigned>(bytes[i]);
    if (i % sizeof(DirectoryEntry) == 0) byte |= kInUse;
    sum = static_cast<uint16_t>((sum << 15 | sum >> 1) + byte);
  }
  return sum;
}

template <typename T>
T as(const DirectoryEntry& entry) {
  T value;
  static_assert(sizeof(T) == sizeof(DirectoryEntry));
  std::memcpy(static_cast<void*>(&value), &entry, sizeof(T));
  return value;
}

bool has_type(const DirectoryEntry& entry, u8 type) { return (entry.EntryType | kInUse) == type; }

// The name that the entries behind a stream extension hold; nothing if they are not its.
std::optional<std::u16string> name_in(std::span<const DirectoryEntry> entries, size_t units) {
  std::u16string name;
  for (const DirectoryEntry& entry : entries) {
    if (name.size() >= units) break;
    if (!has_type(entry, kName)) return std::nullopt;
    const auto part = as<NameEntry>(entry);
    for (size_t i = 0; i < kUnitsPerEntry && name.size() < units; ++i) {
      name.push_back(static_cast<char16_t>(part.FileName[i].value()));
    }
  }
  if (name.size() < units || units == 0) return std::nullopt;
  return name;
}

size_t name_entries(const StreamEntry& stream) {
  return (stream.NameLength + kUnitsPerEntry - 1) / kUnitsPerEntry;
}

// The set that begins at `slot`, and the number of its entries; nothing if none does.
std::optional<EntrySet> set_at(std::span<const DirectoryEntry> entries, size_t slot,
                               const UpcaseTable& upcase, size_t& length) {
  EntrySet set;
  set.slot = slot;
  set.file = as<FileEntry>(entries[slot]);
  const unsigned count = set.file.SecondaryCount;
  if (count < kLeastSecondaries || slot + 2 >= entries.size()) return std::nullopt;
  if (!has_type(entries[slot + 1], kStream)) return std::nullopt;
  set.stream = as<StreamEntry>(entries[slot + 1]);
  const auto name = name_in(entries.subspan(slot + 2), set.stream.NameLength);
  if (!name) return std::nullopt;
  set.name = *name;
  length = 2 + name_entries(set.stream);
  if (count <= kMostSecondaries && slot + 1 + count <= entries.size()) {
    const auto whole = entries.subspan(slot, 1 + count);
    if (checksum_of(whole) == set.file.SetChecksum.value()) {
      set.intact = set.verified = true;
      set.others = 1 + count - static_cast<unsigned>(length);
      length = 1 + count;  // benign entries of vendors included
      return set;
    }
  }
  // A damaged count or time leaves the name and its hash.
  set.verified = upcase.hash(set.name) == set.stream.NameHash.value();
  return set;
}

// A set whose first entry was used again: its stream extension and name are still there.
std::optional<EntrySet> headless_at(std::span<const DirectoryEntry> entries, size_t slot,
                                    const UpcaseTable& upcase, size_t& length) {
  EntrySet set;
  set.slot = slot;
  set.has_file = false;
  set.stream = as<StreamEntry>(entries[slot]);
  const auto name = name_in(entries.subspan(slot + 1), set.stream.NameLength);
  if (!name || upcase.hash(*name) != set.stream.NameHash.value()) return std::nullopt;
  set.name = *name;
  set.verified = true;
  length = 1 + name_entries(set.stream);
  return set;
}

}  // namespace

bool is_known_type(u8 type) {
  static constexpr std::array<u8, 11> kTypes = {
      0x80, kBitmap, kUpcaseTable, kVolumeLabel, kFile, 0xA0, 0xA1, kStream, kName, 0xE0, 0xE1};
  return std::ranges::find(kTypes, type | kInUse) != kTypes.end();
}

size_t intact_set(std::span<const DirectoryEntry> entries) {
  if (entries.size() <= kLeastSecondaries || !has_type(entries[0], kFile) ||
      !has_type(entries[1], kStream)) {
    return 0;
  }
  const auto file = as<FileEntry>(entries[0]);
  const size_t count = file.SecondaryCount;
  const size_t named = name_entries(as<StreamEntry>(entries[1]));
  if (count < kLeastSecondaries || count > kMostSecondaries || count >= entries.size() ||
      named == 0 || named >= count + 1 || !has_type(entries[2], kName)) {
    return 0;
  }
  const auto set = entries.first(1 + count);
  return checksum_of(set) == file.SetChecksum.value() ? set.size() : 0;
}

size_t cut_set(std::span<const DirectoryEntry> entries) {
  for (size_t there = 1; there <= std::min(entries.size(), kMostSetEntries - 1); ++there) {
    const DirectoryEntry& entry = entries[entries.size() - there];
    if (has_type(entry, kFile)) {
      const size_t count = as<FileEntry>(entry).SecondaryCount;
      return count >= kLeastSecondaries && count <= kMostSecondaries && count >= there ? there : 0;
    }
    if (((entry.EntryType | kInUse) & kSecondary) == 0) return 0;
  }
  return 0;
}

UpcaseTable::UpcaseTable() : units_(65536) {
  for (size_t i = 0; i < units_.size(); ++i) units_[i] = static_cast<char16_t>(i);
  for (char16_t c = u'a'; c <= u'z'; ++c) units_[c] = static_cast<char16_t>(c - u'a' + u'A');
}

UpcaseTable::UpcaseTable(std::span<const std::byte> stored) : UpcaseTable() {
  size_t unit = 0;
  for (size_t at = 0; at + 2 <= stored.size() && unit < units_.size(); at += 2) {
    const auto next = [&](size_t offset) {
      return boost::endian::load_little_u16(reinterpret_cast<const unsigned char*>(stored.data()) +
                                            offset);
    };
    const uint16_t value = next(at);
    // FFFF and a count stand for so many units that stay as they are.
    if (value == 0xFFFF && at + 4 <= stored.size()) {
      at += 2;
      const size_t count = next(at);
      for (size_t i = 0; i < count && unit < units_.size(); ++i, ++unit) {
        units_[unit] = static_cast<char16_t>(unit);
      }
    } else {
      units_[unit++] = static_cast<char16_t>(value);
    }
  }
}

uint16_t UpcaseTable::hash(std::u16string_view name) const {
  uint16_t sum = 0;
  for (const char16_t unit : name) {
    const char16_t upper = units_[unit];
    for (const unsigned byte : {upper & 0xFFU, static_cast<unsigned>(upper) >> 8}) {
      sum = static_cast<uint16_t>((sum << 15 | sum >> 1) + byte);
    }
  }
  return sum;
}

FolderContent parse_folder(std::span<const DirectoryEntry> entries, const UpcaseTable& upcase) {
  FolderContent content;
  bool ended = false;
  for (size_t slot = 0; slot < entries.size();) {
    const DirectoryEntry& entry = entries[slot];
    size_t length = 1;
    if (entry.EntryType == 0) {
      ended = true;
    } else if (has_type(entry, kFile)) {
      auto set = set_at(entries, slot, upcase, length);
      const bool live = !ended && (entry.EntryType & kInUse) != 0;
      if (live && (!set || !set->intact)) ++content.broken;
      // A set in use is believed as far as it can be read.
      if (set && (set->verified || live)) {
        set->in_use = live;
        content.sets.push_back(std::move(*set));
      } else {
        length = 1;
      }
    } else if (has_type(entry, kStream)) {
      if (auto set = headless_at(entries, slot, upcase, length)) {
        set->in_use = !ended && (entry.EntryType & kInUse) != 0;
        content.sets.push_back(std::move(*set));
      }
    } else if (!ended && entry.EntryType == kVolumeLabel) {
      const auto label = as<LabelEntry>(entry);
      content.label.emplace();
      for (size_t i = 0; i < std::min<size_t>(label.CharacterCount, 11); ++i) {
        content.label->push_back(static_cast<char16_t>(label.VolumeLabel[i].value()));
      }
    } else if (!ended && entry.EntryType == kBitmap) {
      content.bitmaps.push_back(entry);
    } else if (!ended && entry.EntryType == kUpcaseTable) {
      content.upcase = entry;
    }
    slot += length;
  }
  return content;
}

}  // namespace undershelf::exfat
