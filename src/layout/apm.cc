#include "layout/apm.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <boost/endian/buffers.hpp>
#include <span>

namespace undershelf {
namespace {

using be16 = boost::endian::big_uint16_buf_t;
using be32 = boost::endian::big_uint32_buf_t;

struct DriverDescriptor {  // block 0
  be16 sbSig;              // "ER"
  be16 sbBlkSize;          // bytes
};

struct MapEntry {  // blocks 1 and up
  be16 pmSig;      // "PM"
  be16 pmSigPad;
  be32 pmMapBlkCnt;    // entries in the map
  be32 pmPyPartStart;  // blocks
  be32 pmPartBlkCnt;   // blocks
  char pmPartName[32];
  char pmParType[32];
};
static_assert(sizeof(MapEntry) == 80);

constexpr uint16_t kDriverSignature = 0x4552;
constexpr uint16_t kMapSignature = 0x504D;
constexpr uint32_t kMostEntries = 256;

template <typename T>
bool read_record(const Source& source, uint64_t at, T& record) {
  return read_at(source, at, record);
}

std::string text_of(const char (&field)[32]) {
  return {field, std::find(field, field + sizeof(field), '\0')};
}

std::optional<Layout> read_map(const Source& source, uint32_t block_size) {
  MapEntry entry{};
  if (!read_record(source, block_size, entry) || entry.pmSig.value() != kMapSignature) {
    return std::nullopt;
  }
  Layout layout;
  layout.scheme = "apm";
  layout.sector_size = block_size;
  const uint32_t count = std::min(entry.pmMapBlkCnt.value(), kMostEntries);
  for (uint32_t i = 0; i < count; ++i) {
    if (!read_record(source, uint64_t{block_size} * (i + 1), entry) ||
        entry.pmSig.value() != kMapSignature) {
      layout.notes.push_back(
          fmt::format("The Apple partition map breaks off at entry {} of {}.", i + 1, count));
      break;
    }
    Partition partition;
    partition.number = static_cast<int>(i + 1);
    partition.range = {uint64_t{entry.pmPyPartStart.value()} * block_size,
                       uint64_t{entry.pmPartBlkCnt.value()} * block_size};
    partition.type = text_of(entry.pmParType);
    partition.name = text_of(entry.pmPartName);
    // The map itself, drivers and free space hold no volume.
    partition.container = partition.type == "Apple_partition_map" || partition.type == "Apple_Free";
    layout.partitions.push_back(std::move(partition));
  }
  return layout;
}

}  // namespace

std::optional<Layout> read_apm(const Source& source) {
  std::vector<uint32_t> sizes = {512, 2048, 4096};
  DriverDescriptor driver{};
  if (read_record(source, 0, driver) && driver.sbSig.value() == kDriverSignature) {
    const uint32_t told = driver.sbBlkSize.value();
    if (told >= 512 && told <= 4096 && told % 512 == 0) sizes.insert(sizes.begin(), told);
  }
  for (const uint32_t size : sizes) {
    if (auto layout = read_map(source, size)) return layout;
  }
  return std::nullopt;
}

}  // namespace undershelf
