#include "layout/layout.h"

#include <fmt/format.h>

#include <algorithm>
#include <boost/endian/buffers.hpp>
#include <set>

#include "layout/apm.h"
#include "layout/gpt.h"

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

bool read_record(const Source& source, uint64_t at, MasterBootRecord& mbr) {
  if (!read_at(source, at, mbr)) return false;
  if (mbr.Signature[0] != 0x55 || mbr.Signature[1] != 0xAA) return false;
  // Where boot code of something else stands in place of the map, this fails.
  return std::ranges::all_of(mbr.PartitionRecords, [](const PartitionRecord& record) {
    return record.BootIndicator == 0x00 || record.BootIndicator == 0x80;
  });
}

Partition to_partition(const PartitionRecord& record, int number, uint64_t base, uint64_t sector) {
  Partition partition;
  partition.number = number;
  partition.range = {base + record.StartingLBA.value() * sector, record.SizeInLBA.value() * sector};
  partition.type = type_text(record.OSType);
  partition.bootable = record.BootIndicator == 0x80;
  partition.container = partition.type == "extended";
  return partition;
}

// The chain of extended boot records: in each the first record is a logical volume, counted from
// that boot record, and the second the next boot record, counted from the first one.
void add_logical_volumes(const Source& source, const Partition& extended, uint64_t sector,
                         Layout& layout) {
  constexpr int kMostVolumes = 256;
  uint64_t at = extended.range.offset;
  int number = 5;
  std::set<uint64_t> seen{at};
  for (int steps = 0; steps < kMostVolumes; ++steps) {
    MasterBootRecord record{};
    if (!read_record(source, at, record)) {
      layout.notes.push_back(fmt::format("The chain of logical volumes breaks at byte {}.", at));
      return;
    }
    const PartitionRecord& volume = record.PartitionRecords[0];
    if (volume.OSType != 0 && volume.SizeInLBA.value() != 0) {
      layout.partitions.push_back(to_partition(volume, number++, at, sector));
    }
    const PartitionRecord& next = record.PartitionRecords[1];
    if (next.OSType == 0 || next.SizeInLBA.value() == 0) return;
    const uint64_t next_at = extended.range.offset + next.StartingLBA.value() * sector;
    // Logical volumes need not be in the order of their places.
    if (!seen.insert(next_at).second) {
      layout.notes.emplace_back("The chain of logical volumes comes back to itself.");
      return;
    }
    at = next_at;
  }
}

void note_oddities(const Source& source, Layout& layout) {
  for (const Partition& partition : layout.partitions) {
    if (partition.range.offset >= source.size()) {
      layout.notes.push_back(
          fmt::format("Partition {} starts behind the end of the source.", partition.number));
    } else if (partition.range.end() > source.size()) {
      layout.notes.push_back(fmt::format("Partition {} ends {} bytes behind the end of the source.",
                                         partition.number, partition.range.end() - source.size()));
    }
    for (const Partition& other : layout.partitions) {
      if (other.number < partition.number && !other.container && !partition.container &&
          overlap(other.range, partition.range).length > 0) {
        layout.notes.push_back(
            fmt::format("Partitions {} and {} overlap.", other.number, partition.number));
      }
    }
  }
}

}  // namespace

Layout read_layout(const Source& source, uint32_t sector_size) {
  if (source.size() >= 3 * uint64_t{sector_size}) {
    if (std::optional<Layout> gpt = read_gpt(source, sector_size)) {
      note_oddities(source, *gpt);
      return *gpt;
    }
  }
  if (std::optional<Layout> apm = read_apm(source)) {
    note_oddities(source, *apm);
    return *apm;
  }
  Layout layout;
  layout.sector_size = sector_size;
  MasterBootRecord mbr{};
  if (!read_record(source, 0, mbr)) return layout;
  for (int i = 0; i < 4; ++i) {
    const PartitionRecord& record = mbr.PartitionRecords[i];
    if (record.OSType == 0 || record.SizeInLBA.value() == 0) continue;
    layout.partitions.push_back(to_partition(record, i + 1, 0, sector_size));
    if (layout.partitions.back().type == "GPT protective") {
      layout.notes.emplace_back("The MBR stands in for a GPT, and neither copy of that is there.");
    }
  }
  const std::vector<Partition> primary = layout.partitions;
  for (const Partition& partition : primary) {
    if (partition.container) add_logical_volumes(source, partition, sector_size, layout);
  }
  if (!layout.partitions.empty()) layout.scheme = "mbr";
  note_oddities(source, layout);
  return layout;
}

}  // namespace undershelf
