#include "fs/detector.h"

#include <boost/endian/conversion.hpp>
#include <cstring>

#include "fs/fat/folder.h"
#include "fs/systems.h"
#include "fs/trace_kinds.h"

namespace undershelf::fat {
namespace {

constexpr size_t kEntries = kSweepStep / sizeof(DirectoryEntry);

uint32_t whole_cluster(const DirectoryEntry& entry) {
  return entry.DIR_FstClusLO.value() | uint32_t{entry.DIR_FstClusHI.value()} << 16;
}

class FatDetector : public Detector {
 public:
  size_t reach() const override { return kSweepStep; }

  void look(const SweepBlock& block, std::vector<Trace>& found) const override {
    block.each_sector([&](size_t at, const unsigned char* bytes) {
      const uint64_t place = block.offset + at;
      if (bytes[0] == '.' && bytes[1] == ' ') {
        look_at_start(bytes, place, found);
      } else if ((bytes[0] == 0xEB || bytes[0] == 0xE9) && bytes[510] == 0x55 &&
                 bytes[511] == 0xAA) {
        look_at_boot_sector(block.bytes.subspan(at, kSweepStep), place, found);
      } else if (may_be_entry(bytes)) {
        look_at_entries(bytes, place, found);
      } else {
        look_at_table(bytes, place, found);
      }
    });
  }

  // A folder of some sectors, or a part of a table, is one trace.
  void keep(const Trace& trace, std::vector<Trace>& kept) override {
    if (!kept.empty() && kept.back().goes_on_with(trace)) {
      kept.back().length += trace.length;
    } else {
      kept.push_back(trace);
    }
  }

  bool can_have_found(const Trace& trace) const override {
    if (trace.kind == kFolderStart) return trace.number >= 2;
    if (trace.kind == kFolderEntries) return true;
    return trace.kind == kTable && trace.number <= trace.offset &&
           (trace.other == 16 || trace.other == 32);
  }

 private:
  // What is asked of the first entry of a sector before all of them are looked at.
  static bool may_be_entry(const unsigned char* bytes) {
    if (bytes[0] == 0 || (bytes[11] & kAttrReserved) != 0) return false;
    if ((bytes[11] & kAttrLongNameMask) == kAttrLongName) {
      return bytes[12] == 0 && bytes[26] == 0 && bytes[27] == 0;
    }
    return (bytes[12] & ~(kLowerCaseBase | kLowerCaseExtension)) == 0 && bytes[13] < 200 &&
           bytes[25] != 0;
  }

  static std::span<const DirectoryEntry> entries_of(const unsigned char* bytes) {
    return {reinterpret_cast<const DirectoryEntry*>(bytes), kEntries};
  }

  static void look_at_start(const unsigned char* bytes, uint64_t place, std::vector<Trace>& found) {
    const auto entries = entries_of(bytes);
    if (!is_dot(entries[0]) || !is_dot_dot(entries[1])) return;
    for (const DirectoryEntry& entry : entries.first(2)) {
      if ((entry.DIR_Attr & kAttrReserved) != 0 || (entry.DIR_Attr & kAttrDirectory) == 0 ||
          entry.DIR_FileSize.value() != 0) {
        return;
      }
    }
    const uint32_t own = whole_cluster(entries[0]);
    if (own < 2 || own == whole_cluster(entries[1])) return;
    found.push_back({place, kSweepStep, kFolderStart, own, whole_cluster(entries[1])});
  }

  static void look_at_entries(const unsigned char* bytes, uint64_t place,
                              std::vector<Trace>& found) {
    if (looks_like_entries(entries_of(bytes))) {
      found.push_back({place, kSweepStep, kFolderEntries, 0, 0});
    }
  }

  // A boot sector, or the backup of one: of the volume that starts here, or six sectors before.
  static void look_at_boot_sector(std::span<const std::byte> bytes, uint64_t place,
                                  std::vector<Trace>& found) {
    BootSector boot{};
    std::memcpy(&boot, bytes.data(), sizeof boot);
    const std::optional<Geometry> geometry = from_fields(boot);
    if (!geometry) return;
    found.push_back({place, kSweepStep, kHeaderTrace, place, 0});
    const uint64_t before = 6ULL * geometry->sector_size;
    if (geometry->type == Type::fat32 && place >= before) {
      found.push_back({place, kSweepStep, kHeaderTrace, place - before, 0});
    }
  }

  // Files mostly lie in one piece, and then each entry of a table names the cluster after its own:
  // that tells where the table begins.
  static void look_at_table(const unsigned char* bytes, uint64_t place, std::vector<Trace>& found) {
    using boost::endian::load_little_u16;
    using boost::endian::load_little_u32;
    const uint32_t second = load_little_u32(bytes + 4);
    if (load_little_u32(bytes + 8) == second + 1 && load_little_u32(bytes + 12) == second + 2) {
      find_chains<4>(
          bytes, place, [](const unsigned char* at) { return load_little_u32(at) & 0x0FFFFFFF; },
          found);
      return;
    }
    const uint16_t third = load_little_u16(bytes + 4);
    if (load_little_u16(bytes + 6) == third + 1 && load_little_u16(bytes + 8) == third + 2) {
      find_chains<2>(
          bytes, place, [](const unsigned char* at) -> uint32_t { return load_little_u16(at); },
          found);
    }
  }

  template <size_t width, typename Load>
  static void find_chains(const unsigned char* bytes, uint64_t place, const Load& load,
                          std::vector<Trace>& found) {
    constexpr size_t kCount = kSweepStep / width;
    size_t following = 0;
    for (size_t i = 0; i + 1 < kCount; ++i) {
      following += load(bytes + (i + 1) * width) == load(bytes + i * width) + 1;
    }
    if (following < kCount * 3 / 4) return;
    // By the third entry, whose neighbours were looked at.
    const uint64_t own = uint64_t{load(bytes + 2 * width)} - 1;
    const uint64_t behind = (own - 2) * width;  // bytes of the table before this sector
    if (own < 4 || behind % kSweepStep != 0 || behind > place) return;
    found.push_back({place, kSweepStep, kTable, place - behind, width * 8});
  }
};

}  // namespace
}  // namespace undershelf::fat

std::unique_ptr<undershelf::Detector> undershelf::make_detector(Fat) {
  return std::make_unique<fat::FatDetector>();
}
