// On-disk structures of HFS+ and HFSX, as printed in Apple's Technical Note TN1150, "HFS Plus
// Volume Format". All fields are big-endian.
#pragma once

#include <boost/endian/buffers.hpp>
#include <cstddef>
#include <cstdint>

namespace undershelf::hfsplus {

using u8 = uint8_t;
using be16 = boost::endian::big_uint16_buf_t;
using be32 = boost::endian::big_uint32_buf_t;
using be64 = boost::endian::big_uint64_buf_t;

// "Fork Data Structure".
struct Extent {
  be32 startBlock;
  be32 blockCount;
};
struct ForkData {
  be64 logicalSize;  // bytes
  be32 clumpSize;
  be32 totalBlocks;
  Extent extents[8];
};
static_assert(sizeof(ForkData) == 80);

// "Volume Header": at byte 1024, and once more 1024 bytes before the end.
struct VolumeHeader {
  be16 signature;  // "H+" or "HX"
  be16 version;    // 4 or 5
  be32 attributes;
  be32 lastMountedVersion;
  be32 journalInfoBlock;
  be32 createDate;  // local
  be32 modifyDate;
  be32 backupDate;
  be32 checkedDate;
  be32 fileCount;
  be32 folderCount;
  be32 blockSize;  // bytes
  be32 totalBlocks;
  be32 freeBlocks;
  be32 nextAllocation;
  be32 rsrcClumpSize;
  be32 dataClumpSize;
  be32 nextCatalogID;
  be32 writeCount;
  be64 encodingsBitmap;
  be32 finderInfo[8];
  ForkData allocationFile;
  ForkData extentsFile;
  ForkData catalogFile;
  ForkData attributesFile;
  ForkData startupFile;
};
static_assert(sizeof(VolumeHeader) == 512);
constexpr uint16_t kSignaturePlus = 0x482B;
constexpr uint16_t kSignatureX = 0x4858;
constexpr uint64_t kHeaderOffset = 1024;     // bytes
constexpr uint32_t kUnmountedBit = 1U << 8;  // attributes
constexpr uint32_t kInconsistentBit = 1U << 11;
constexpr uint32_t kJournaledBit = 1U << 13;

// "HFS Wrapper": fields of an HFS master directory block that embeds an HFS+ volume.
struct MasterDirectoryBlock {
  be16 drSigWord;  // "BD"
  u8 unused1[18];
  be32 drAlBlkSiz;  // bytes
  be32 drClpSiz;
  be16 drAlBlSt;  // in 512 bytes
  u8 unused2[94];
  be16 drEmbedSigWord;  // "H+"
  be16 drEmbedStart;    // in allocation blocks
  be16 drEmbedCount;
};
static_assert(sizeof(MasterDirectoryBlock) == 130);
constexpr uint16_t kSignatureWrapper = 0x4244;

// "B-Trees".
struct NodeDescriptor {
  be32 fLink;
  be32 bLink;
  u8 kind;  // 0xFF leaf, 0 index, 1 header, 2 map
  u8 height;
  be16 numRecords;
  be16 reserved;
};
static_assert(sizeof(NodeDescriptor) == 14);
constexpr u8 kLeafNode = 0xFF, kIndexNode = 0, kHeaderNode = 1, kMapNode = 2;
struct HeaderRecord {
  be16 treeDepth;
  be32 rootNode;
  be32 leafRecords;
  be32 firstLeafNode;
  be32 lastLeafNode;
  be16 nodeSize;
  be16 maxKeyLength;
  be32 totalNodes;
  be32 freeNodes;
  be16 reserved1;
  be32 clumpSize;
  u8 btreeType;
  u8 keyCompareType;
  be32 attributes;
};
static_assert(sizeof(HeaderRecord) == 42);

// "Catalog File". A key: its length, the parent's CNID, the name (length, then UTF-16).
enum RecordType : uint16_t { kFolder = 1, kFile = 2, kFolderThread = 3, kFileThread = 4 };
struct Permissions {
  be32 ownerID;
  be32 groupID;
  u8 adminFlags;
  u8 ownerFlags;
  be16 fileMode;
  be32 special;  // of a hard link: the number of its inode file
};
struct FolderRecord {
  be16 recordType;
  be16 flags;
  be32 valence;
  be32 folderID;
  be32 createDate;
  be32 contentModDate;
  be32 attributeModDate;
  be32 accessDate;
  be32 backupDate;
  Permissions permissions;
  u8 userInfo[16];
  u8 finderInfo[16];
  be32 textEncoding;
  be32 reserved;
};
static_assert(sizeof(FolderRecord) == 88);
struct FileRecord {
  be16 recordType;
  be16 flags;
  be32 reserved1;
  be32 fileID;
  be32 createDate;
  be32 contentModDate;
  be32 attributeModDate;
  be32 accessDate;
  be32 backupDate;
  Permissions permissions;
  be32 fdType;  // begins userInfo
  be32 fdCreator;
  be16 fdFlags;  // of a folder: frFlags
  u8 restOfUserInfo[6];
  u8 finderInfo[16];
  be32 textEncoding;
  be32 reserved2;
  ForkData dataFork;
  ForkData resourceFork;
};
static_assert(sizeof(FileRecord) == 248);
struct ThreadRecord {
  be16 recordType;
  be16 reserved;
  be32 parentID;
  be16 nameLength;  // UTF-16 units, which follow
};
static_assert(sizeof(ThreadRecord) == 10);
static_assert(offsetof(FolderRecord, folderID) == offsetof(FileRecord, fileID) &&
              offsetof(FolderRecord, textEncoding) == offsetof(FileRecord, textEncoding));
constexpr unsigned kIsInvisible = 0x4000;  // in fdFlags
constexpr unsigned kModeType = 0xF000, kModeLink = 0xA000;
constexpr uint32_t kHardLinkType = 0x686C6E6B;       // "hlnk"
constexpr uint32_t kHardLinkCreator = 0x6866732B;    // "hfs+"
constexpr uint32_t kFolderLinkType = 0x66647270;     // "fdrp"
constexpr uint32_t kFolderLinkCreator = 0x4D414353;  // "MACS"

// "Extents Overflow File": a key of ten bytes, then eight extents.
struct ExtentKey {
  be16 keyLength;
  u8 forkType;  // 0 data, 0xFF resource
  u8 pad;
  be32 fileID;
  be32 startBlock;
};
static_assert(sizeof(ExtentKey) == 12);

// "Attributes File": a key, then inline data, a fork, or more extents of one.
struct AttributeKey {
  be16 keyLength;
  be16 pad;
  be32 fileID;
  be32 startBlock;
  be16 nameLength;  // UTF-16 units, which follow
};
static_assert(sizeof(AttributeKey) == 14);
constexpr uint32_t kInlineAttribute = 0x10, kForkAttribute = 0x20, kAttributeExtents = 0x30;

// "Journal": the info block is big-endian; the header is in the byte order of the machine.
struct JournalInfoBlock {
  be32 flags;
  be32 device_signature[8];
  be64 offset;  // bytes in the volume
  be64 size;    // bytes
};
static_assert(sizeof(JournalInfoBlock) == 52);
constexpr uint32_t kJournalInVolume = 1;

// "Catalog Node IDs".
constexpr uint32_t kRootParent = 1, kRoot = 2, kExtentsFile = 3, kCatalogFile = 4, kBadBlocks = 5,
                   kAllocationFile = 6, kStartupFile = 7, kAttributesFile = 8, kFirstUser = 16;

}  // namespace undershelf::hfsplus
