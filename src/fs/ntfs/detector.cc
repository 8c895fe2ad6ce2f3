#include "fs/detector.h"

#include <array>
#include <bit>
#include <cstddef>
#include <cstring>

#include "fs/ntfs/file.h"
#include "fs/ntfs/geometry.h"
#include "fs/ntfs/journal.h"
#include "fs/systems.h"
#include "fs/trace_kinds.h"

namespace undershelf::ntfs {
namespace {

constexpr size_t kMostBlock = 64 << 10;  // bytes: of an index block, as far as it is looked for

constexpr uint32_t magic_of(const char (&text)[5]) {
  // As it lies in memory, on either kind of machine.
  return std::bit_cast<uint32_t>(std::array<char, 4>{text[0], text[1], text[2], text[3]});
}
constexpr uint32_t kFileMagic = magic_of("FILE");
constexpr uint32_t kIndexMagic = magic_of("INDX");
constexpr uint32_t kLogMagic = magic_of("RCRD");
constexpr uint32_t kBootMagic = magic_of("NTFS");  // of a boot sector, behind its jump

class NtfsDetector : public Detector {
 public:
  size_t reach() const override { return kPage; }

  void look(const SweepBlock& block, std::vector<Trace>& found) const override {
    block.each_sector(may_be_of_volume, [&](size_t at, const unsigned char* bytes) {
      const uint32_t magic = magic_at(bytes);
      if (magic == kFileMagic) {
        look_at_record(block, at, found);
      } else if (magic == kIndexMagic) {
        look_at_index(block, at, found);
      } else if (magic == kLogMagic) {
        look_at_log(block, at, found);
      } else if (may_be_change(bytes)) {
        look_at_changes(block, at, found);
      } else {
        look_at_boot_sector(block.bytes.subspan(at, kSweepStep), block.offset + at, found);
      }
    });
  }

  void keep(const Trace& trace, std::vector<Trace>& kept) override {
    if (!kept.empty() && kept.back().kind == trace.kind) {
      Trace& last = kept.back();
      const bool is_page = trace.kind == kChangePages || trace.kind == kLogPages;
      // Records of changes within a page that is known look like the beginning of one.
      if (trace.kind == kChangePages && trace.offset < last.end()) return;
      if ((trace.kind == kRecords && records_go_on(last, trace)) ||
          (is_page && page_goes_on(last, trace))) {
        last.length = trace.end() - last.offset;
        return;
      }
    }
    kept.push_back(trace);
  }

  bool can_have_found(const Trace& trace) const override {
    if (trace.kind != kRecords) return trace.kind >= kIndexBlock && trace.kind <= kLogPages;
    return std::has_single_bit(trace.other) && trace.other >= 1024 && trace.other <= 4096 &&
           trace.length % trace.other == 0;
  }

 private:
  static uint32_t magic_at(const unsigned char* bytes) {
    uint32_t magic = 0;
    std::memcpy(&magic, bytes, sizeof magic);
    return magic;
  }

  // Whether one of the things that are looked for begins with it.
  static bool may_be_of_volume(const unsigned char* bytes) {
    const uint32_t magic = magic_at(bytes);
    const unsigned block = unsigned{magic == kFileMagic} | unsigned{magic == kIndexMagic} |
                           unsigned{magic == kLogMagic};
    const unsigned boot = unsigned{magic_at(bytes + offsetof(BootSector, oem_id)) == kBootMagic};
    return (block | boot | unsigned{may_be_change(bytes)}) != 0;
  }

  // By the length of a record of changes, and the first number of its version.
  static bool may_be_change(const unsigned char* bytes) {
    return (unsigned{(bytes[2] | bytes[3]) == 0} & unsigned{bytes[4] - 2U < 2}) != 0;
  }

  static void look_at_record(const SweepBlock& block, size_t at, std::vector<Trace>& found) {
    const auto header = load<RecordHeader>(block.bytes, at);
    const uint32_t size = header->bytes_allocated.value();
    const uint32_t used = header->bytes_in_use.value();
    const unsigned attributes = header->attributes_offset.value();
    const unsigned usa = header->usa_offset.value();
    const unsigned usa_count = header->usa_count.value();
    if ((size != 1024 && size != 2048 && size != 4096) || used > size || used < attributes + 8 ||
        attributes % 8 != 0 || usa < 0x28 || usa % 2 != 0 || usa_count != size / 512 + 1 ||
        usa + 2 * usa_count > attributes || attributes > 256 || header->flags.value() > 0x0F) {
      return;
    }
    const auto first = load<boost::endian::little_uint32_buf_t>(block.bytes, at + attributes);
    if (!first || (first->value() != kEnd && (first->value() % 16 != 0 || first->value() == 0 ||
                                              first->value() > kLoggedUtilityStream))) {
      return;
    }
    const bool numbered = usa >= sizeof(RecordHeader);
    const uint64_t number = numbered ? header->record_number.value() : kNoNumber;
    found.push_back({block.offset + at, size, kRecords, number, size});
  }

  // Whether records go on with those before them.
  static bool records_go_on(const Trace& last, const Trace& records) {
    if (last.other != records.other || last.end() != records.offset) return false;
    if (last.number == kNoNumber) return records.number == kNoNumber;
    const uint64_t next = last.number + last.length / last.other;
    // Some formatters leave the number 0 in records 12 to 23.
    constexpr uint64_t kUnnumberedFrom = 12, kUnnumberedTo = 24;
    const bool unnumbered = records.number == 0 && next >= kUnnumberedFrom && next < kUnnumberedTo;
    return records.number == next || unnumbered;
  }

  // Whether a page goes on with those before it, which may end before their last page does.
  static bool page_goes_on(const Trace& last, const Trace& page) {
    return (page.offset - last.offset) % kPage == 0 && page.offset - last.end() < kPage &&
           page.offset >= last.end();
  }

  static void look_at_index(const SweepBlock& block, size_t at, std::vector<Trace>& found) {
    const auto header = load<IndexBlock>(block.bytes, at);
    if (!header) return;
    const size_t strides = header->usa_count.value();
    const size_t size = (strides - 1) * kSweepStep;
    const size_t entries =
        sizeof(IndexBlock) - sizeof(IndexHeader) + header->header.entries_offset.value();
    if (strides < 2 || size > kMostBlock || header->usa_offset.value() < 0x28 ||
        entries < sizeof(IndexBlock) || entries > kSweepStep ||
        header->header.allocated_size.value() > size ||
        header->header.index_length.value() > header->header.allocated_size.value()) {
      return;
    }
    // The first entry lies in the first part, whose last two bytes are the only ones replaced.
    uint64_t folder = 0;
    const auto entry = load<IndexEntry>(block.bytes, at + entries);
    if (entry && (entry->flags.value() & kIndexEntryEnd) == 0) {
      const auto value = load<FileName>(block.bytes, at + entries + sizeof(IndexEntry));
      const size_t key = entry->key_length.value();
      // Other indexes than of names are of no use here.
      if (!value || key != sizeof(FileName) + 2 * size_t{value->name_length} ||
          value->name_space > kWin32AndDos || number_of(value->parent.value()) == 0) {
        return;
      }
      folder = value->parent.value();
    }
    found.push_back({block.offset + at, size, kIndexBlock, header->vcn.value(), folder});
  }

  // [MS-FSCC] 2.4: a page begins with a change record.
  static void look_at_changes(const SweepBlock& block, size_t at, std::vector<Trace>& found) {
    const size_t length =
        length_of_changes(block.bytes.subspan(at, std::min(kPage, block.bytes.size() - at)));
    if (length > 0) found.push_back({block.offset + at, length, kChangePages, 0, 0});
  }

  static void look_at_log(const SweepBlock& block, size_t at, std::vector<Trace>& found) {
    const auto usa_offset = load<le16>(block.bytes, at + 4);
    const auto usa_count = load<le16>(block.bytes, at + 6);
    if (!usa_count || usa_count->value() != kPage / kSweepStep + 1 || usa_offset->value() < 0x1E ||
        usa_offset->value() > 0x40 || at + kPage > block.bytes.size()) {
      return;
    }
    found.push_back({block.offset + at, kPage, kLogPages, 0, 0});
  }

  static void look_at_boot_sector(std::span<const std::byte> bytes, uint64_t place,
                                  std::vector<Trace>& found) {
    const auto boot = load<BootSector>(bytes);
    if (std::memcmp(boot->oem_id, "NTFS    ", sizeof boot->oem_id) != 0) return;
    const std::optional<Geometry> geometry = from_fields(*boot);
    if (!geometry) return;
    found.push_back({place, kSweepStep, kHeaderTrace, place, 0});
    if (place >= geometry->volume_size) {
      found.push_back({place, kSweepStep, kHeaderTrace, place - geometry->volume_size, 0});
    }
  }
};

}  // namespace
}  // namespace undershelf::ntfs

std::unique_ptr<undershelf::Detector> undershelf::make_detector(Ntfs) {
  return std::make_unique<ntfs::NtfsDetector>();
}
