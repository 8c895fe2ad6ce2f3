// On-disk structures of exFAT, as printed in Microsoft's "exFAT file system specification",
// revision 1.00. All fields are little-endian.
#pragma once

#include <boost/endian/buffers.hpp>
#include <cstdint>

namespace undershelf::exfat {

using u8 = uint8_t;
using le16 = boost::endian::little_uint16_buf_t;
using le32 = boost::endian::little_uint32_buf_t;
using le64 = boost::endian::little_uint64_buf_t;

// Section 3.1, "Main and Backup Boot Sector Sub-regions".
struct BootSector {
  u8 JumpBoot[3];          // EB 76 90
  char FileSystemName[8];  // "EXFAT   "
  u8 MustBeZero[53];
  le64 PartitionOffset;
  le64 VolumeLength;       // sectors
  le32 FatOffset;          // sectors
  le32 FatLength;          // sectors
  le32 ClusterHeapOffset;  // sectors
  le32 ClusterCount;
  le32 FirstClusterOfRootDirectory;
  le32 VolumeSerialNumber;
  le16 FileSystemRevision;
  le16 VolumeFlags;
  u8 BytesPerSectorShift;     // 9 to 12
  u8 SectorsPerClusterShift;  // up to 25 minus BytesPerSectorShift
  u8 NumberOfFats;
  u8 DriveSelect;
  u8 PercentInUse;
  u8 Reserved[7];
  u8 BootCode[390];
  u8 BootSignature[2];  // 55 AA
};
static_assert(sizeof(BootSector) == 512);
constexpr unsigned kActiveFat = 0x0001;  // VolumeFlags
constexpr unsigned kVolumeDirty = 0x0002;
constexpr unsigned kMediaFailure = 0x0004;
constexpr unsigned kBootRegionSectors = 12;  // section 3; the last one repeats the checksum

// Section 6.2: any entry. Bit 7 of the type: in use.
struct DirectoryEntry {
  u8 EntryType;
  u8 CustomDefined[19];
  le32 FirstCluster;
  le64 DataLength;
};
static_assert(sizeof(DirectoryEntry) == 32);
constexpr u8 kInUse = 0x80;
constexpr u8 kBitmap = 0x81;
constexpr u8 kUpcaseTable = 0x82;
constexpr u8 kVolumeLabel = 0x83;
constexpr u8 kFile = 0x85;
constexpr u8 kStream = 0xC0;
constexpr u8 kName = 0xC1;
constexpr u8 kSecondary = 0x40;  // bit of the type

// Section 7.4, "File Directory Entry".
struct FileEntry {
  u8 EntryType;
  u8 SecondaryCount;  // 2 to 18
  le16 SetChecksum;
  le16 FileAttributes;
  u8 Reserved1[2];
  le32 CreateTimestamp;
  le32 LastModifiedTimestamp;
  le32 LastAccessedTimestamp;
  u8 Create10msIncrement;
  u8 LastModified10msIncrement;
  u8 CreateUtcOffset;
  u8 LastModifiedUtcOffset;
  u8 LastAccessedUtcOffset;
  u8 Reserved2[7];
};
static_assert(sizeof(FileEntry) == 32);
constexpr unsigned kHiddenAttribute = 0x02;
constexpr unsigned kDirectoryAttribute = 0x10;

// Section 7.6, "Stream Extension Directory Entry".
struct StreamEntry {
  u8 EntryType;
  u8 GeneralSecondaryFlags;
  u8 Reserved1;
  u8 NameLength;  // UTF-16 units, 1 to 255
  le16 NameHash;
  u8 Reserved2[2];
  le64 ValidDataLength;  // bytes
  u8 Reserved3[4];
  le32 FirstCluster;
  le64 DataLength;  // bytes
};
static_assert(sizeof(StreamEntry) == 32);
constexpr unsigned kAllocationPossible = 0x01;  // GeneralSecondaryFlags
constexpr unsigned kNoFatChain = 0x02;

// Section 7.7, "File Name Directory Entry".
struct NameEntry {
  u8 EntryType;
  u8 GeneralSecondaryFlags;
  le16 FileName[15];
};
static_assert(sizeof(NameEntry) == 32);

// Section 7.3, "Volume Label Directory Entry".
struct LabelEntry {
  u8 EntryType;
  u8 CharacterCount;
  le16 VolumeLabel[11];
  u8 Reserved[8];
};
static_assert(sizeof(LabelEntry) == 32);

constexpr uint64_t kMostFolderBytes = 256 << 20;  // section 7.4: what a folder may hold
constexpr uint32_t kBadCluster = 0xFFFFFFF7;      // section 4.1
constexpr uint32_t kEndOfChain = 0xFFFFFFFF;

}  // namespace undershelf::exfat
