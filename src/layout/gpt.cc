#include "layout/gpt.h"

#include <fmt/format.h>
#include <zlib.h>

#include <array>
#include <boost/endian/buffers.hpp>
#include <boost/endian/conversion.hpp>
#include <cstring>
#include <map>

#include "model/text.h"

namespace undershelf {
namespace {

using boost::endian::little_uint32_buf_t;
using boost::endian::little_uint64_buf_t;

// UEFI specification 2.10, Table 5-5, "GPT Header".
struct Header {
  char Signature[8];  // "EFI PART"
  little_uint32_buf_t Revision;
  little_uint32_buf_t HeaderSize;
  little_uint32_buf_t HeaderCRC32;
  little_uint32_buf_t Reserved;
  little_uint64_buf_t MyLBA;
  little_uint64_buf_t AlternateLBA;
  little_uint64_buf_t FirstUsableLBA;
  little_uint64_buf_t LastUsableLBA;
  uint8_t DiskGUID[16];
  little_uint64_buf_t PartitionEntryLBA;
  little_uint32_buf_t NumberOfPartitionEntries;
  little_uint32_buf_t SizeOfPartitionEntry;
  little_uint32_buf_t PartitionEntryArrayCRC32;
};
static_assert(sizeof(Header) == 92);

// UEFI specification 2.10, Table 5-6, "GPT Partition Entry".
struct Entry {
  uint8_t PartitionTypeGUID[16];
  uint8_t UniquePartitionGUID[16];
  little_uint64_buf_t StartingLBA;
  little_uint64_buf_t EndingLBA;
  little_uint64_buf_t Attributes;
  boost::endian::little_uint16_buf_t PartitionName[36];
};
static_assert(sizeof(Entry) == 128);

struct Table {
  std::vector<Partition> partitions;
  std::vector<std::byte> array;  // the entries as stored, for comparing the copies
  uint64_t alternate = 0;        // bytes; where this copy says the other one lies
  bool sound = true;             // both checksums are right
};

uint32_t crc_of(std::span<const std::byte> bytes) {
  return static_cast<uint32_t>(
      crc32(0, reinterpret_cast<const Bytef*>(bytes.data()), static_cast<uInt>(bytes.size())));
}

std::string type_text(const uint8_t* guid) {
  // The first four bytes tell the common types apart (little-endian, as printed).
  static const std::map<uint32_t, std::string> kTypes = {
      {0xC12A7328, "EFI system"}, {0xEBD0A0A2, "basic data"},  {0xE3C9E316, "Microsoft reserved"},
      {0x0FC63DAF, "Linux"},      {0x0657FD6D, "Linux swap"},  {0xE6D6D379, "Linux LVM"},
      {0xA19D880F, "Linux RAID"}, {0x48465300, "HFS or HFS+"}, {0xDE94BBA4, "Windows recovery"},
      {0x21686148, "BIOS boot"},
  };
  const uint32_t head = boost::endian::load_little_u32(guid);
  const auto known = kTypes.find(head);
  return known == kTypes.end() ? fmt::format("type {:08X}", head) : known->second;
}

std::optional<Table> read_table(const Source& source, uint64_t at, uint32_t sector_size) {
  constexpr uint32_t kMostParts = 1024;
  Header header{};
  const auto bytes = std::as_writable_bytes(std::span(&header, 1));
  if (!source.read(at, bytes).ok() || std::memcmp(header.Signature, "EFI PART", 8) != 0) {
    return std::nullopt;
  }
  Table table;
  const uint32_t header_crc = header.HeaderCRC32.value();
  header.HeaderCRC32 = 0;
  table.sound = header.HeaderSize.value() == sizeof header && crc_of(bytes) == header_crc;
  table.alternate = header.AlternateLBA.value() * sector_size;
  const uint32_t size = header.SizeOfPartitionEntry.value();
  const uint32_t count = std::min(header.NumberOfPartitionEntries.value(), kMostParts);
  if (size < sizeof(Entry) || size > 4096 || count == 0) return std::nullopt;
  table.array.resize(uint64_t{size} * count);
  table.sound = source.read(header.PartitionEntryLBA.value() * sector_size, table.array).ok() &&
                crc_of(table.array) == header.PartitionEntryArrayCRC32.value() && table.sound;
  for (uint32_t i = 0; i < count; ++i) {
    Entry entry{};
    std::memcpy(&entry, table.array.data() + uint64_t{i} * size, sizeof entry);
    static constexpr uint8_t kUnused[16] = {};
    const uint64_t first = entry.StartingLBA.value();
    const uint64_t last = entry.EndingLBA.value();
    if (std::memcmp(entry.PartitionTypeGUID, kUnused, 16) == 0 || last < first ||
        last >= (uint64_t{1} << 62) / sector_size) {
      continue;
    }
    Partition partition;
    partition.number = static_cast<int>(i) + 1;
    partition.range = {first * sector_size, (last - first + 1) * sector_size};
    partition.type = type_text(entry.PartitionTypeGUID);
    std::u16string name;
    for (const auto& unit : entry.PartitionName) {
      if (unit.value() == 0) break;
      name.push_back(static_cast<char16_t>(unit.value()));
    }
    partition.name = name_from_utf16(name).text;
    table.partitions.push_back(std::move(partition));
  }
  return table;
}

}  // namespace

std::optional<Layout> read_gpt(const Source& source, uint32_t sector_size) {
  const auto primary = read_table(source, sector_size, sector_size);
  const uint64_t last = source.size() / sector_size * sector_size - sector_size;
  auto backup = read_table(source, last, sector_size);
  if (!backup && primary && primary->alternate != last) {
    backup = read_table(source, primary->alternate, sector_size);
  }
  if (!primary && !backup) return std::nullopt;

  Layout layout;
  layout.scheme = "gpt";
  layout.sector_size = sector_size;
  const auto say = [&](const char* note) { layout.notes.emplace_back(note); };
  if (!primary) say("The primary GPT is missing; its backup was used.");
  if (!backup) say("The backup GPT is missing, or the image ends before it.");
  if (primary && !primary->sound) say("A checksum of the primary GPT is wrong.");
  if (backup && !backup->sound) say("A checksum of the backup GPT is wrong.");
  if (primary && backup && primary->array != backup->array) say("The two GPTs differ.");
  const bool use_backup = !primary || (!primary->sound && backup && backup->sound);
  if (use_backup && primary) say("The backup GPT was used.");
  layout.partitions = use_backup ? backup->partitions : primary->partitions;
  return layout;
}

}  // namespace undershelf
