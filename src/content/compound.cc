// Compound files ([MS-CFB] 2): Word, Excel and PowerPoint before 2007, messages of Outlook. The
// chains of sectors must not loop, meet, or leave the file. What they say of themselves:
// compound_properties.cc.
#include "content/compound.h"

#include <algorithm>
#include <array>
#include <string>
#include <vector>

#include "content/families.h"

namespace undershelf::content {
namespace {

constexpr uint32_t kFree = 0xFFFFFFFF;

std::string_view recognise(Bytes& bytes) {
  if (!bytes.has(0, "\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1")) return {};
  const uint64_t sector = compound_sector(bytes);
  // The first sectors of the directory: the names of its streams tell what it is.
  const uint64_t directory = (uint64_t{bytes.le32(48)} + 1) * sector;
  for (uint64_t i = 0; i < 64; ++i) {
    std::string name;
    for (uint64_t c = 0; c < 31; ++c) {
      const uint16_t unit = bytes.le16(directory + i * 128 + c * 2);
      if (unit == 0) break;
      name += static_cast<char>(unit < 0x80 ? unit : '?');
    }
    if (name == "WordDocument") return "doc";
    if (name == "Workbook" || name == "Book") return "xls";
    if (name == "PowerPoint Document") return "ppt";
    if (name.starts_with("__properties_version")) return "msg";
  }
  return "compound";
}

}  // namespace

std::vector<uint32_t> compound_tables(Bytes& bytes, uint64_t sectors) {
  const uint64_t sector = compound_sector(bytes);
  const uint64_t count = std::min<uint64_t>(bytes.le32(44), sectors);
  std::vector<uint32_t> tables;
  for (uint32_t i = 0; i < std::min<uint64_t>(count, 109); ++i)
    tables.push_back(bytes.le32(76 + 4 * i));
  uint32_t more = bytes.le32(68);
  const uint64_t in_sector = sector / 4;
  for (uint64_t steps = 0; more <= kMostCompoundSector && steps <= sectors; ++steps) {
    const uint64_t at = (uint64_t{more} + 1) * sector;
    for (uint64_t i = 0; i + 1 < in_sector && tables.size() < count; ++i) {
      tables.push_back(bytes.le32(at + 4 * i));
    }
    more = bytes.le32(at + 4 * (in_sector - 1));
  }
  return tables;
}

namespace {

// `open`: the file may be followed by what is not its own.
Walk chains(Bytes& bytes, bool open) {
  const unsigned shift = bytes.le16(30);
  if ((shift != 9 && shift != 12) || bytes.le16(28) != 0xFFFE) {
    return broken(0, "Its header has impossible numbers.");
  }
  const uint64_t sector = compound_sector(bytes);
  const uint64_t in_file = (bytes.size() + sector - 1) / sector;
  uint64_t sectors = in_file == 0 ? 0 : in_file - 1;
  const auto place = [&](uint64_t number) { return (number + 1) * sector; };
  const uint32_t table_count = bytes.le32(44);
  if (table_count > sectors) return broken(44, "It is shorter than its header says.");
  if (open) sectors = std::min(sectors, table_count * (sector / 4));
  const uint64_t in_sector = sector / 4;
  const std::vector<uint32_t> tables = compound_tables(bytes, sectors);
  uint64_t used = 0;  // sectors, the highest in use
  std::vector<bool> led_to(sectors, false);
  for (uint64_t t = 0; t < tables.size(); ++t) {
    if (tables[t] >= sectors) return broken(bytes.size(), "It ends before its table of sectors.");
    used = std::max<uint64_t>(used, tables[t] + 1);
    for (uint64_t i = 0; i < in_sector; ++i) {
      const uint64_t own = t * in_sector + i;
      const uint64_t at = place(tables[t]) + 4 * i;
      const uint32_t next = bytes.le32(at);
      if (next == kFree) continue;
      if (own >= sectors) return broken(bytes.size(), "It ends before its last sector.");
      used = std::max(used, own + 1);
      if (next > kMostCompoundSector) continue;
      if (next >= sectors || led_to[next])
        return broken(at, "Its chains of sectors do not add up.");
      led_to[next] = true;
    }
  }
  return ended(Level::consistent, std::min(place(used), bytes.size()));
}

Walk walk(Bytes& bytes, std::string_view) { return chains(bytes, false); }
Walk walk_open(Bytes& bytes, std::string_view) { return chains(bytes, true); }

}  // namespace

const Family kCompound{
    .recognise = recognise, .walk = walk, .walk_open = walk_open, .describe = describe_compound};

}  // namespace undershelf::content
