#include "layout/layout.h"

#include <fmt/format.h>

#include <array>
#include <boost/endian/buffers.hpp>

namespace undershelf {
namespace {

using boost::endian::little_uint32_buf_t;

// UEFI specification 2.10, Table 5-2, "Legacy MBR Partition Record".
struct PartitionRecord {
  uint8_t BootIndicator;
  uint8_t StartingCHS[3];
  uint8_t OSType;
  uint8_t EndingCHS[3];
  little_uint32_buf_t StartingLBA;
  little_uint32_buf_t SizeInLBA;
};

// UEFI specification 2.10, Table 5-1, "Legacy MBR".
struct MasterBootRecord {
  uint8_t BootCode[440];
  little_uint32_buf_t UniqueMBRDiskSignature;
  uint8_t Unknown[2];
  PartitionRecord PartitionRecords[4];
  uint8_t Signature[2];
};
static_assert(sizeof(MasterBootRecord) == 512);

std::string type_text(uint8_t type) {
  switch (type) {
    case 0x01:
      return "FAT12";
    case 0x04:
    case 0x06:
    case 0x0E:
      return "FAT16";
    case 0x0B:
    case 0x0C:
      return "FAT32";
    case 0x07:
      return "NTFS or exFAT";
    case 0x05:
    case 0x0F:
    case 0x85:
      return "extended";
    case 0x82:
      return "Linux swap";
    case 0x83:
      return "Linux";
    case 0x8E:
      return "Linux LVM";
    case 0xAF:
      return "HFS or HFS+";
    case 0xEE:
      return "GPT protective";
    case 0xEF:
      return "EFI system";
    case 0xFD:
      return "Linux RAID";
    default:
      return fmt::format("type 0x{:02X}", type);
  }
}

}  // namespace

Layout read_layout(const Source& source) {
  Layout layout;
  layout.scheme = "none";
  MasterBootRecord mbr{};
  if (!source.read(0, std::as_writable_bytes(std::span(&mbr, 1))).ok() ||
      mbr.Signature[0] != 0x55 || mbr.Signature[1] != 0xAA) {
    return layout;
  }
  const uint64_t sector = source.sector_size();
  for (int i = 0; i < 4; ++i) {
    const PartitionRecord& record = mbr.PartitionRecords[i];
    if (record.BootIndicator != 0x00 && record.BootIndicator != 0x80) {
      // Boot code of something else stands where the map would be.
      return {"none", {}, {}};
    }
    if (record.OSType == 0 || record.SizeInLBA.value() == 0) continue;
    Partition partition;
    partition.number = i + 1;
    partition.range = {record.StartingLBA.value() * sector, record.SizeInLBA.value() * sector};
    partition.type = type_text(record.OSType);
    partition.bootable = record.BootIndicator == 0x80;
    if (partition.range.offset >= source.size()) {
      layout.notes.push_back(
          fmt::format("Partition {} starts behind the end of the source.", partition.number));
    } else if (partition.range.end() > source.size()) {
      layout.notes.push_back(fmt::format("Partition {} ends {} bytes behind the end of the source.",
                                         partition.number, partition.range.end() - source.size()));
    }
    for (const Partition& other : layout.partitions) {
      if (overlap(other.range, partition.range).length > 0) {
        layout.notes.push_back(
            fmt::format("Partitions {} and {} overlap.", other.number, partition.number));
      }
    }
    if (partition.type == "extended" || partition.type == "GPT protective") {
      layout.notes.push_back(fmt::format(
          "Partition {} is {}; what lies in it is not read by this version.", partition.number,
          partition.type == "extended" ? "an extended one" : "the stand-in for a GPT"));
    }
    layout.partitions.push_back(partition);
  }
  if (!layout.partitions.empty()) layout.scheme = "mbr";
  return layout;
}

}  // namespace undershelf
