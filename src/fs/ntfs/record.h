// One FILE record: its fix-ups and its attributes.
#pragma once

#include <cstring>
#include <functional>
#include <optional>
#include <span>
#include <string>
#include <string_view>

#include "fs/load.h"
#include "fs/ntfs/ondisk.h"

namespace undershelf::ntfs {

// Puts back the last two bytes of each 512 (documentation, "Fixup"). Where they are not what the
// update sequence says, a write was torn: those are left as they are. False if any was torn, or the
// sequence itself makes no sense.
bool apply_fixups(std::span<std::byte> record);

// An attribute in a record's bytes, which must outlive it.
struct Attribute {
  AttributeHeader header;
  std::u16string name;               // empty for the main one
  std::span<const std::byte> bytes;  // all of it, header included

  uint32_t type() const { return header.type.value(); }
  bool resident() const { return header.non_resident == 0; }
  // The value of a resident attribute, as far as it lies within the attribute.
  std::span<const std::byte> value() const;
  // The fields of a non-resident one; nothing if the attribute is too short for them.
  std::optional<NonResidentPart> non_resident() const;
};

struct Record {
  RecordHeader header;
  std::span<const std::byte> bytes;
  bool torn = false;     // some fix-up did not match
  bool damaged = false;  // the chain of attributes breaks off

  bool in_use() const { return (header.flags.value() & kRecordInUse) != 0; }
  bool folder() const { return (header.flags.value() & kRecordIsFolder) != 0; }
  // Its number, as it says itself; nothing before version 3.1.
  std::optional<uint32_t> own_number() const;
};

// Parses a record in place, with its fix-ups applied. Nothing if it does not begin as one.
std::optional<Record> parse_record(std::span<std::byte> bytes);

// Calls `visit` with each attribute, in order. False if they break off before their end mark.
bool each_attribute(const Record& record, const std::function<void(const Attribute&)>& visit);

// `units` UTF-16 units at `offset` of `bytes`; fewer if they end before.
std::u16string utf16_at(std::span<const std::byte> bytes, uint64_t offset, size_t units);

}  // namespace undershelf::ntfs
