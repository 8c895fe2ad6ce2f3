// On-disk structures of FAT12, FAT16 and FAT32, as printed in "Microsoft Extensible Firmware
// Initiative FAT32 File System Specification", version 1.03. All fields are little-endian.
#pragma once

#include <boost/endian/buffers.hpp>
#include <cstdint>

namespace undershelf::fat {

using u8 = uint8_t;
using le16 = boost::endian::little_uint16_buf_t;
using le32 = boost::endian::little_uint32_buf_t;

// With what the fields of the boot sector end: at byte 36 on FAT12 and FAT16, at byte 64 on FAT32.
struct VolumeFields {
  u8 BS_DrvNum;
  u8 BS_Reserved1;
  u8 BS_BootSig;
  le32 BS_VolID;
  char BS_VolLab[11];
  char BS_FilSysType[8];
};
// FAT32 has these from byte 36 on.
struct Fat32Fields {
  le32 BPB_FATSz32;
  le16 BPB_ExtFlags;
  le16 BPB_FSVer;
  le32 BPB_RootClus;
  le16 BPB_FSInfo;
  le16 BPB_BkBootSec;
  u8 BPB_Reserved[12];
  VolumeFields volume;
};

// Section "Boot Sector and BPB", fields common to all FAT types and those of FAT12/FAT16.
struct BootSector {
  u8 BS_jmpBoot[3];
  char BS_OEMName[8];
  le16 BPB_BytsPerSec;
  u8 BPB_SecPerClus;
  le16 BPB_RsvdSecCnt;
  u8 BPB_NumFATs;
  le16 BPB_RootEntCnt;
  le16 BPB_TotSec16;
  u8 BPB_Media;
  le16 BPB_FATSz16;
  le16 BPB_SecPerTrk;
  le16 BPB_NumHeads;
  le32 BPB_HiddSec;
  le32 BPB_TotSec32;
  union {
    VolumeFields fat16;  // FAT12 and FAT16
    Fat32Fields fat32;
    u8 rest[474];
  };
  u8 signature[2];  // 0x55 0xAA
};
static_assert(sizeof(BootSector) == 512);

// Section "FAT Directory Structure".
struct DirectoryEntry {
  u8 DIR_Name[11];
  u8 DIR_Attr;
  u8 DIR_NTRes;
  u8 DIR_CrtTimeTenth;
  le16 DIR_CrtTime;
  le16 DIR_CrtDate;
  le16 DIR_LstAccDate;
  le16 DIR_FstClusHI;
  le16 DIR_WrtTime;
  le16 DIR_WrtDate;
  le16 DIR_FstClusLO;
  le32 DIR_FileSize;
};
static_assert(sizeof(DirectoryEntry) == 32);

// Section "FAT Long Directory Entries".
struct LongEntry {
  u8 LDIR_Ord;
  u8 LDIR_Name1[10];
  u8 LDIR_Attr;
  u8 LDIR_Type;
  u8 LDIR_Chksum;
  u8 LDIR_Name2[12];
  le16 LDIR_FstClusLO;
  u8 LDIR_Name3[4];
};
static_assert(sizeof(LongEntry) == 32);

constexpr u8 kAttrHidden = 0x02;
constexpr u8 kAttrVolumeId = 0x08;
constexpr u8 kAttrDirectory = 0x10;
constexpr u8 kAttrLongName = 0x0F;
constexpr u8 kAttrLongNameMask = 0x3F;
constexpr u8 kAttrReserved = 0xC0;
constexpr u8 kDeleted = 0xE5;
constexpr u8 kKanjiE5 = 0x05;  // stands for a real first byte 0xE5
constexpr u8 kLastLongEntry = 0x40;
constexpr u8 kLowerCaseBase = 0x08;                // DIR_NTRes, as Windows NT and Linux use it
constexpr u8 kLowerCaseExtension = 0x10;           // likewise
constexpr uint32_t kMostFolderBytes = 65536 * 32;  // "FAT Directory Structure": 65,536 entries

}  // namespace undershelf::fat
