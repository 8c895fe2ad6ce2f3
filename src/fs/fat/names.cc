#include "fs/fat/names.h"

#include <algorithm>
#include <cstring>
#include <string_view>

namespace undershelf::fat {
namespace {

constexpr size_t kUnitsPerSlot = 13;
constexpr size_t kMostSlots = 20;  // 255 units, "FAT Long Directory Entries"

u8 rotate_right(u8 value) { return static_cast<u8>(value >> 1 | value << 7); }
u8 rotate_left(u8 value) { return static_cast<u8>(value << 1 | value >> 7); }

bool is_legal_byte(u8 byte) {
  constexpr std::string_view kForbidden = "\"*+,./:;<=>?[\\]|";
  return byte >= 0x20 && byte != 0x7F &&
         kForbidden.find(static_cast<char>(byte)) == std::string_view::npos;
}

const LongEntry& as_long(const DirectoryEntry& entry) {
  return reinterpret_cast<const LongEntry&>(entry);
}

bool is_long(const DirectoryEntry& entry) {
  return (entry.DIR_Attr & kAttrLongNameMask) == kAttrLongName && as_long(entry).LDIR_Type == 0 &&
         as_long(entry).LDIR_FstClusLO.value() == 0;
}

// Appends a slot's units up to its end. Says whether the end of the name stands in this slot;
// `sound` becomes false if anything but padding follows the end.
bool take_units(const LongEntry& slot, std::u16string& out, bool& sound) {
  u8 bytes[2 * kUnitsPerSlot];
  std::memcpy(bytes, slot.LDIR_Name1, 10);
  std::memcpy(bytes + 10, slot.LDIR_Name2, 12);
  std::memcpy(bytes + 22, slot.LDIR_Name3, 4);
  bool ended = false;
  for (size_t i = 0; i < kUnitsPerSlot; ++i) {
    const auto unit = static_cast<char16_t>(bytes[2 * i] | bytes[2 * i + 1] << 8);
    if (ended) {
      sound = sound && unit == 0xFFFF;
    } else if (unit == 0) {
      ended = true;
    } else {
      out.push_back(unit);
    }
  }
  return ended;
}

// Whether an alias made of this long name may begin with `first`. Drivers leave out spaces and
// dots at the start, put ASCII in upper case, and go different ways with everything else.
bool fits_alias(std::u16string_view name, u8 first) {
  const size_t begin = name.find_first_not_of(u" .");
  if (begin == std::u16string_view::npos) return true;
  const char16_t c = name[begin];
  const auto upper = static_cast<u8>(c >= u'a' && c <= u'z' ? c - 32 : c);
  if (begin > 0 && first == '~') return true;  // of a name that begins with a dot, with some
  const bool plain = (upper >= 'A' && upper <= 'Z') || (c >= u'0' && c <= u'9');
  return c >= 0x80 || !plain || upper == first;
}

bool is_plausible_text(std::u16string_view name) {
  constexpr std::u16string_view kForbidden = u"\"*/:<>?\\|";
  return !name.empty() && std::ranges::none_of(name, [&](char16_t c) {
    return c < 0x20 || c == 0xFFFF || kForbidden.find(c) != kForbidden.npos;
  });
}

}  // namespace

u8 checksum(std::span<const u8, 11> name) {
  u8 sum = 0;
  for (const u8 byte : name) sum = static_cast<u8>(rotate_right(sum) + byte);
  return sum;
}

u8 solve_first_byte(u8 sum, std::span<const u8, 11> name) {
  for (size_t i = name.size() - 1; i > 0; --i) sum = rotate_left(static_cast<u8>(sum - name[i]));
  return sum;
}

bool is_legal_short_name(std::span<const u8, 11> name, bool first_lost) {
  for (size_t i = first_lost ? 1 : 0; i < name.size(); ++i) {
    if (!is_legal_byte(name[i]) && !(i == 0 && name[i] == kKanjiE5)) return false;
  }
  return first_lost || name[0] != 0x20;
}

Name short_name(const DirectoryEntry& entry, bool first_lost, const CodePage& code_page) {
  std::string bytes(reinterpret_cast<const char*>(entry.DIR_Name), 11);
  if (first_lost) {
    bytes[0] = '_';
  } else if (entry.DIR_Name[0] == kKanjiE5) {
    bytes[0] = static_cast<char>(kDeleted);
  }
  const auto trimmed = [&](size_t from, size_t count) {
    std::string part = bytes.substr(from, count);
    part.erase(part.find_last_not_of(' ') + 1);
    return part;
  };
  std::u16string text = code_page.decode(trimmed(0, 8));
  if ((entry.DIR_NTRes & kLowerCaseBase) != 0) text = lower_case(text);
  const std::u16string extension = code_page.decode(trimmed(8, 3));
  if (!extension.empty()) {
    text += u'.';
    text += (entry.DIR_NTRes & kLowerCaseExtension) != 0 ? lower_case(extension) : extension;
  }
  Name name = name_from_utf16(text);
  if (name.text.find_first_not_of(' ') == std::string::npos) {
    name.text = "[blank]";
    name.exact = false;
  }
  if (!name.exact || name.text.find("\uFFFD") != std::string::npos) {
    name.exact = false;
    name.raw.assign(reinterpret_cast<const char*>(entry.DIR_Name), 11);
  }
  if (first_lost) name.exact = false;
  return name;
}

std::optional<LongName> long_name(std::span<const DirectoryEntry> entries, size_t at, bool deleted,
                                  bool* broken) {
  *broken = false;
  if (at == 0 || !is_long(entries[at - 1])) return std::nullopt;
  const std::span<const u8, 11> short_bytes(entries[at].DIR_Name);
  const u8 sum = as_long(entries[at - 1]).LDIR_Chksum;
  if (!deleted && sum != checksum(short_bytes)) return std::nullopt;

  std::u16string text;
  LongName found;
  bool ended = false;  // the slot holding the end of the name was seen
  bool sound = true;
  while (!ended && found.slots < kMostSlots && found.slots < at) {
    const DirectoryEntry& entry = entries[at - 1 - found.slots];
    const LongEntry& slot = as_long(entry);
    if (!is_long(entry) || slot.LDIR_Chksum != sum) break;
    if (deleted != (slot.LDIR_Ord == kDeleted)) break;
    if (!deleted && (slot.LDIR_Ord & ~kLastLongEntry) != found.slots + 1) {
      sound = false;
      break;
    }
    ended = take_units(slot, text, sound);
    ++found.slots;
    if (!deleted && (slot.LDIR_Ord & kLastLongEntry) != 0) {
      ended = true;
    } else if (!deleted && ended) {
      sound = false;  // the name ends before the slot that is marked as its last
    }
  }
  if (deleted) {
    const u8 first = solve_first_byte(sum, short_bytes);
    const bool legal = (is_legal_byte(first) && first != ' ') || first == kKanjiE5;
    sound = sound && legal && fits_alias(text, first);
  }
  sound = sound && is_plausible_text(text);
  if (!sound || (!deleted && !ended)) {
    *broken = !deleted;
    return std::nullopt;
  }
  found.name = name_from_utf16(text);
  found.ended = ended;
  found.name.exact = found.name.exact && ended;
  return found;
}

}  // namespace undershelf::fat
