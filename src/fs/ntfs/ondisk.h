// On-disk structures of NTFS 1.2 to 3.1, as documented for the Linux NTFS drivers ("NTFS
// Documentation", one page a structure) and, for the change journal, in [MS-FSCC] section 2.4. All
// fields are little-endian.
#pragma once

#include <boost/endian/buffers.hpp>
#include <cstdint>

namespace undershelf::ntfs {

using u8 = uint8_t;
using le16 = boost::endian::little_uint16_buf_t;
using le32 = boost::endian::little_uint32_buf_t;
using le64 = boost::endian::little_uint64_buf_t;

// "$Boot".
struct BootSector {
  u8 jump[3];
  char oem_id[8];  // "NTFS    "
  le16 bytes_per_sector;
  u8 sectors_per_cluster;  // above 0x80: 2 to the power of 256 minus it
  u8 unused1[7];
  u8 media;
  u8 unused2[18];
  le64 total_sectors;  // the backup boot sector lies right behind them
  le64 mft_lcn;
  le64 mftmirr_lcn;
  int8_t clusters_per_record;  // negative: 2 to the power of minus it, in bytes
  u8 unused3[3];
  int8_t clusters_per_index;  // likewise
  u8 unused4[3];
  le64 serial;
  le32 checksum;
  u8 code[426];
  u8 signature[2];  // 0x55 0xAA
};
static_assert(sizeof(BootSector) == 512);

// "FILE Record".
struct RecordHeader {
  char magic[4];  // "FILE"
  le16 usa_offset;
  le16 usa_count;  // of 2-byte values: the check value, then one for each 512 bytes
  le64 lsn;
  le16 sequence;
  le16 link_count;
  le16 attributes_offset;
  le16 flags;
  le32 bytes_in_use;
  le32 bytes_allocated;
  le64 base_record;  // 0 in a base record
  le16 next_instance;
  le16 unused;
  le32 record_number;  // since version 3.1; only there if usa_offset is at least 0x30
};
static_assert(sizeof(RecordHeader) == 48);
constexpr unsigned kRecordInUse = 0x0001;
constexpr unsigned kRecordIsFolder = 0x0002;

// "Attributes": the header, and what follows in either form.
struct AttributeHeader {
  le32 type;
  le32 length;  // bytes, with the header
  u8 non_resident;
  u8 name_length;  // UTF-16 units
  le16 name_offset;
  le16 flags;
  le16 instance;
};
static_assert(sizeof(AttributeHeader) == 16);
struct ResidentPart {
  le32 value_length;
  le16 value_offset;
  u8 indexed;
  u8 unused;
};
struct NonResidentPart {
  le64 lowest_vcn;
  le64 highest_vcn;
  le16 mapping_pairs_offset;
  u8 compression_unit;  // log2 of clusters
  u8 unused[5];
  le64 allocated_size;
  le64 data_size;
  le64 initialized_size;
};
static_assert(sizeof(NonResidentPart) == 48);

enum AttributeType : uint32_t {
  kStandardInformation = 0x10,
  kAttributeList = 0x20,
  kFileName = 0x30,
  kVolumeName = 0x60,
  kVolumeInformation = 0x70,
  kData = 0x80,
  kIndexRoot = 0x90,
  kIndexAllocation = 0xA0,
  kBitmap = 0xB0,
  kReparsePoint = 0xC0,
  kExtendedAttributes = 0xE0,
  kLoggedUtilityStream = 0x100,  // "$EFS" of encrypted files
  kEnd = 0xFFFFFFFF,
};
constexpr unsigned kCompressed = 0x0001;  // attribute flags; the low byte is the method
constexpr unsigned kEncrypted = 0x4000;
constexpr unsigned kSparse = 0x8000;

// "$STANDARD_INFORMATION". Times: 100 ns since 1601, UTC.
struct StandardInformation {
  le64 created;
  le64 modified;
  le64 record_changed;
  le64 accessed;
  le32 file_attributes;
};

// "$FILE_NAME", also the key of an entry in a folder's index.
struct FileName {
  le64 parent;  // file reference
  le64 created;
  le64 modified;
  le64 record_changed;
  le64 accessed;
  le64 allocated_size;
  le64 data_size;
  le32 file_attributes;
  le32 reparse_value;
  u8 name_length;  // UTF-16 units, which follow
  u8 name_space;
};
static_assert(sizeof(FileName) == 66);
enum NameSpace : u8 { kPosix = 0, kWin32 = 1, kDos = 2, kWin32AndDos = 3 };
// In `file_attributes`; that of folders in FileName only.
constexpr uint32_t kHiddenAttribute = 0x00000002;
constexpr uint32_t kFolderAttribute = 0x10000000;

// "$ATTRIBUTE_LIST".
struct AttributeListEntry {
  le32 type;
  le16 length;
  u8 name_length;
  u8 name_offset;
  le64 lowest_vcn;
  le64 reference;
  le16 instance;
};
static_assert(sizeof(AttributeListEntry) == 26);

// "$INDEX_ROOT", "$INDEX_ALLOCATION".
struct IndexHeader {
  le32 entries_offset;  // from this header
  le32 index_length;    // likewise, behind the last entry
  le32 allocated_size;
  u8 flags;
  u8 unused[3];
};
struct IndexRoot {
  le32 type;  // of the attribute that is indexed
  le32 collation;
  le32 block_size;  // bytes
  u8 clusters_per_block;
  u8 unused[3];
  IndexHeader header;
};
static_assert(sizeof(IndexRoot) == 32);
struct IndexBlock {
  char magic[4];  // "INDX"
  le16 usa_offset;
  le16 usa_count;
  le64 lsn;
  le64 vcn;  // in clusters, or in 512 bytes where a cluster is larger than a block
  IndexHeader header;
};
static_assert(sizeof(IndexBlock) == 40);
struct IndexEntry {
  le64 reference;
  le16 length;
  le16 key_length;
  le16 flags;  // 1: a child block follows; 2: the end of the node, no key
  le16 unused;
};
static_assert(sizeof(IndexEntry) == 16);
constexpr unsigned kIndexEntryEnd = 2;

// "$REPARSE_POINT": the tag and the length of the data that follow.
struct ReparseHeader {
  le32 tag;
  le16 length;
  le16 unused;
};
constexpr uint32_t kTagMountPoint = 0xA0000003;
constexpr uint32_t kTagSymbolicLink = 0xA000000C;
constexpr uint32_t kTagLinuxLink = 0xA000001D;
constexpr uint32_t kTagCompressed = 0x80000017;    // Windows overlay filter
constexpr uint32_t kTagDeduplicated = 0x80000013;  // content lies in a chunk store

// [MS-FSCC] "USN_RECORD_V2"; in version 3 both references take 16 bytes.
struct ChangeRecordHead {
  le32 length;
  le16 major_version;
  le16 minor_version;
};
struct ChangeRecordTail {
  le64 usn;
  le64 time;
  le32 reason;
  le32 source;
  le32 security_id;
  le32 file_attributes;
  le16 name_length;  // bytes
  le16 name_offset;  // bytes, from the record's beginning
};
static_assert(sizeof(ChangeRecordTail) == 36);
constexpr uint32_t kReasonDeleted = 0x00000200;
constexpr uint32_t kReasonOldName = 0x00001000;

// Records with numbers of their own.
constexpr uint64_t kMft = 0, kMftMirr = 1, kLogFile = 2, kVolumeRecord = 3, kRoot = 5,
                   kClusterBitmap = 6, kBadClusters = 8, kExtend = 11, kFirstOrdinary = 16;

// A file reference: the record's number, and the sequence number it had.
constexpr uint64_t number_of(uint64_t reference) { return reference & 0xFFFFFFFFFFFF; }
constexpr uint16_t sequence_of(uint64_t reference) {
  return static_cast<uint16_t>(reference >> 48);
}
constexpr uint64_t make_reference(uint64_t number, uint16_t sequence) {
  return number | uint64_t{sequence} << 48;
}

}  // namespace undershelf::ntfs
