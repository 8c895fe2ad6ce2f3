#include "fs/detector.h"

#include <array>
#include <boost/endian/conversion.hpp>
#include <cstring>

#include "fs/exfat/folder.h"
#include "fs/exfat/geometry.h"
#include "fs/systems.h"
#include "fs/trace_kinds.h"

namespace undershelf::exfat {
namespace {

constexpr size_t kEntry = sizeof(DirectoryEntry);
constexpr unsigned char kJump = 0xEB, kMedia = 0xF8;  // a boot sector's first byte, and a FAT's

// Codes go up to 5 of what a folder cannot do without, and to 2 of all else; 0 is behind the last.
constexpr bool is_defined(unsigned char type) {
  constexpr unsigned char kTypeCode = 0x1F, kImportanceAndCategory = 0x60;
  return type != 0 && (type & kTypeCode) <= ((type & kImportanceAndCategory) == 0 ? 5 : 2);
}

// What a byte may be that a sector begins with: the type of an entry, or one that besides begins
// a root folder or a boot sector.
constexpr uint8_t kIsEntry = 1, kBegins = 2;
constexpr std::array<uint8_t, 256> kFirsts = [] {
  std::array<uint8_t, 256> firsts{};
  for (size_t type = 0; type < firsts.size(); ++type) {
    const bool begins = type == kJump || type == kBitmap || (type | kInUse) == kVolumeLabel;
    firsts[type] =
        (is_defined(static_cast<unsigned char>(type)) ? kIsEntry : 0) | (begins ? kBegins : 0);
  }
  return firsts;
}();

class ExfatDetector : public Detector {
 public:
  size_t reach() const override { return kMostSetEntries * kEntry; }

  void look(const SweepBlock& block, std::vector<Trace>& found) const override {
    block.each_sector(may_be_of_volume, [&](size_t sector, const unsigned char* bytes) {
      look_at_sector(block, sector, bytes, found);
      if (!may_be_entries(bytes)) return;
      // A set that begins with the second of two entries is told by the one behind it, with which
      // the next two begin.
      for (size_t at = 0; at < kSweepStep; at += 2 * kEntry) {
        if (is_file(bytes[at])) look_at_set(block, sector + at, found);
        const size_t behind = at + 2 * kEntry;
        if (sector + behind < block.bytes.size() && is_stream(bytes[behind])) {
          look_at_set(block, sector + at + kEntry, found);
        }
      }
    });
  }

  // Sets lie densely; only the sectors that they touch are kept.
  void keep(const Trace& trace, std::vector<Trace>& kept) override {
    const bool starts = trace.number != 0;  // the first set begins with the sector
    if (trace.kind == kSets && !kept.empty() && kept.back().kind == kSets &&
        kept.back().end() >= trace.offset && (!starts || kept.back().end() > trace.offset)) {
      Trace& last = kept.back();
      if (!starts) {
        last.length = std::max(last.end(), trace.end()) - last.offset;
        return;
      }
      last.length = trace.offset - last.offset;  // a set cannot lie in two; this begins a new one
    }
    kept.push_back(trace);
  }

  bool can_have_found(const Trace& trace) const override {
    if (trace.kind == kSets) return trace.number <= 1;
    if (trace.kind == kRootEntries) return trace.number >= 2 && trace.other >= 2;
    return trace.kind == kUpcase || trace.kind == kFat;
  }

 private:
  // Whether the first two are entries as far as their types tell (section 6.2): sectors of folders
  // hold nothing else, and no set where one of them is the end.
  static bool may_be_entries(const unsigned char* bytes) {
    return (kFirsts[bytes[0]] & kFirsts[bytes[kEntry]] & kIsEntry) != 0;
  }
  // Whether one of the things that are looked for begins with it.
  static bool may_be_of_volume(const unsigned char* bytes) {
    constexpr uint32_t kFirstOfFat = 0xFFFFFF00 | kMedia, kFirstOfUpcase = 1 << 16;
    const uint32_t first = boost::endian::load_little_u32(bytes);
    return ((kFirsts[bytes[0]] & (kFirsts[bytes[kEntry]] | kBegins)) |
            unsigned{first == kFirstOfFat} | unsigned{first == kFirstOfUpcase}) != 0;
  }
  static bool is_file(unsigned char type) { return (type | kInUse) == kFile; }
  static bool is_stream(unsigned char type) { return (type | kInUse) == kStream; }

  static void look_at_set(const SweepBlock& block, size_t at, std::vector<Trace>& found) {
    const auto type = [&](size_t entry) {
      return std::to_integer<unsigned char>(block.bytes[entry]);
    };
    if (at + kEntry >= block.bytes.size() || !is_file(type(at)) || !is_stream(type(at + kEntry)))
      return;
    const auto entries = std::span(reinterpret_cast<const DirectoryEntry*>(block.bytes.data() + at),
                                   std::min(kMostSetEntries, (block.bytes.size() - at) / kEntry));
    if (const size_t length = intact_set(entries); length > 0) {
      add_set(block.offset + at, length * kEntry, found);
    }
  }

  // The sectors that a set touches.
  static void add_set(uint64_t place, uint64_t length, std::vector<Trace>& found) {
    const uint64_t begin = place / kSweepStep * kSweepStep;
    const uint64_t end = (place + length + kSweepStep - 1) / kSweepStep * kSweepStep;
    found.push_back({begin, end - begin, kSets, place == begin ? 1U : 0U, 0});
  }

  static void look_at_sector(const SweepBlock& block, size_t sector, const unsigned char* at,
                             std::vector<Trace>& found) {
    const uint64_t place = block.offset + sector;
    if (at[0] == kJump) {
      look_at_boot_sector(block.bytes.subspan(sector, kSweepStep), place, found);
    } else if ((at[0] | kInUse) == kVolumeLabel || at[0] == kBitmap) {
      look_at_root(at, place, found);
    } else if (at[0] == kMedia) {
      static constexpr std::array<unsigned char, 8> kFirstEntries = {kMedia, 0xFF, 0xFF, 0xFF,
                                                                     0xFF,   0xFF, 0xFF, 0xFF};
      if (std::memcmp(at, kFirstEntries.data(), kFirstEntries.size()) == 0) {
        found.push_back({place, kSweepStep, kFat, 0, 0});
      }
    } else {
      static constexpr std::array<unsigned char, 16> kFirstUnits = {0, 0, 1, 0, 2, 0, 3, 0,
                                                                    4, 0, 5, 0, 6, 0, 7, 0};
      if (at[2] == 1 && std::memcmp(at, kFirstUnits.data(), kFirstUnits.size()) == 0) {
        found.push_back({place, kSweepStep, kUpcase, 0, 0});
      }
    }
  }

  static void look_at_root(const unsigned char* at, uint64_t place, std::vector<Trace>& found) {
    uint64_t bitmap = 0;
    uint64_t upcase = 0;
    for (size_t i = 0; i + kEntry <= kSweepStep / 2; i += kEntry) {
      DirectoryEntry entry{};
      std::memcpy(&entry, at + i, kEntry);
      const uint64_t length = entry.DataLength.value();
      if (entry.EntryType == kBitmap && length > 0) bitmap = entry.FirstCluster.value();
      if (entry.EntryType == kUpcaseTable && length > 0 && length <= 128 << 10) {
        upcase = entry.FirstCluster.value();
      }
    }
    if (bitmap >= 2 && upcase >= 2 && bitmap != upcase) {
      found.push_back({place, kSweepStep, kRootEntries, bitmap, upcase});
    }
  }

  static void look_at_boot_sector(std::span<const std::byte> bytes, uint64_t place,
                                  std::vector<Trace>& found) {
    BootSector boot{};
    std::memcpy(&boot, bytes.data(), sizeof boot);
    if (std::memcmp(boot.FileSystemName, "EXFAT   ", sizeof boot.FileSystemName) != 0) return;
    const std::optional<Geometry> geometry = from_fields(boot);
    if (!geometry) return;
    found.push_back({place, kSweepStep, kHeaderTrace, place, 0});
    const uint64_t before = uint64_t{kBootRegionSectors} * geometry->sector_size;
    if (place >= before) found.push_back({place, kSweepStep, kHeaderTrace, place - before, 0});
  }
};

}  // namespace
}  // namespace undershelf::exfat

std::unique_ptr<undershelf::Detector> undershelf::make_detector(Exfat) {
  return std::make_unique<exfat::ExfatDetector>();
}
