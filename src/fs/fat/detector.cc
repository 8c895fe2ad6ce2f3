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
    block.each_sector(may_be_of_volume, [&](size_t at, const unsigned char* bytes) {
      const uint64_t place = block.offset + at;
      if (bytes[0] == '.' && bytes[1] == ' ') {
        look_at_start(bytes, place, found);
      } else if ((bytes[0] == 0xEB || bytes[0] == 0xE9) && bytes[510] == 0x55 &&
                 bytes[511] == 0xAA) {
        look_at_boot_sector(block.bytes.subspan(at, kSweepStep), place, found);
      } else if (may_be_entry(bytes) && looks_like_entries(entries_of(bytes))) {
        found.push_back({place, kSweepStep, kFolderEntries, 0, 0});
      } else if (counts_up<4>(bytes)) {
        find_chains<4>(bytes, place, found);
      } else if (counts_up<2>(bytes)) {
        find_chains<2>(bytes, place, found);
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
  // Whether one of the things that are looked for begins with it.
  static bool may_be_of_volume(const unsigned char* bytes) {
    const unsigned dot = unsigned{bytes[0] == '.'} & unsigned{bytes[1] == ' '};
    const unsigned jump = unsigned{(bytes[0] | 0x02) == 0xEB};  // EB or E9
    return (dot | jump | unsigned{may_be_entry(bytes)} | unsigned{counts_up<4>(bytes)} |
            unsigned{counts_up<2>(bytes)}) != 0;
  }

  // What is asked of the first entry of a sector before all of them are looked at: of attributes
  // and flags of lower case together, and of what a name ends with.
  static bool may_be_entry(const unsigned char* bytes) {
    constexpr unsigned kCases = kLowerCaseBase | kLowerCaseExtension;
    constexpr unsigned kNone = kAttrReserved | (0xFF & ~kCases) << 8;
    const unsigned flags = boost::endian::load_little_u16(bytes + 11);
    const unsigned is_long = unsigned{(flags & kAttrLongNameMask) == kAttrLongName};
    return (unsigned{(flags & kNone) == 0} & unsigned{bytes[0] != 0} &
            (is_long | unsigned{bytes[10] >= ' '})) != 0;
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

  // An entry of a table, of so many bytes. The four highest bits of the longer ones tell nothing.
  template <size_t width>
  static uint32_t cluster_at(const unsigned char* bytes, size_t entry) {
    constexpr uint32_t kCluster = 0x0FFFFFFF;
    if constexpr (width == 2) return boost::endian::load_little_u16(bytes + 2 * entry);
    return boost::endian::load_little_u32(bytes + 4 * entry) & kCluster;
  }

  // Whether each of three entries, from the first that can be of two long ones on, follows the one
  // before.
  template <size_t width>
  static bool counts_up(const unsigned char* bytes) {
    constexpr size_t kFirst = 4 / width;
    const uint32_t first = cluster_at<width>(bytes, kFirst);
    return (unsigned{cluster_at<width>(bytes, kFirst + 1) == first + 1} &
            unsigned{cluster_at<width>(bytes, kFirst + 2) == first + 2}) != 0;
  }

  // Files mostly lie in one piece, and then each entry of a table names the cluster after its own:
  // that tells where the table begins.
  template <size_t width>
  static void find_chains(const unsigned char* bytes, uint64_t place, std::vector<Trace>& found) {
    constexpr size_t kCount = kSweepStep / width;
    size_t following = 0;
    for (size_t i = 0; i + 1 < kCount; ++i) {
      following += cluster_at<width>(bytes, i + 1) == cluster_at<width>(bytes, i) + 1;
    }
    if (following < kCount * 3 / 4) return;
    // By the third entry, whose neighbours were looked at.
    const uint64_t own = uint64_t{cluster_at<width>(bytes, 2)} - 1;
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
