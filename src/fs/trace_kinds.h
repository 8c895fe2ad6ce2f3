// Kinds of traces, besides headers, that detectors tell of. Their numbers are stored in shelves.
#pragma once

#include <cstdint>

namespace undershelf {

namespace fat {
// kFolderStart: a sector with which a folder begins. `number`: its own first cluster, as `.` names
// it; `other`: its parent's, as `..` does. High halves included, which only FAT32 has.
// kFolderEntries: sectors that follow each other and hold entries, but not the beginning of a
// folder.
// kTable: sectors of a file allocation table that hold long chains. `number`: the byte of the
// source at which the table would begin; `other`: bits an entry, 16 or 32.
enum TraceKind : uint32_t { kFolderStart = 1, kFolderEntries = 2, kTable = 3 };
}  // namespace fat

namespace exfat {
// kSets: sectors that follow each other and hold entry sets whose checksums hold. `number`: 1 if a
// set begins with the first byte, as at the beginning of a folder.
// kRootEntries: a sector of a root folder: it names the allocation bitmap and the up-case table.
// `number` and `other`: their first clusters.
// kUpcase: a sector with which an up-case table begins (section 7.2.5: units that stay as they
// are). kFat: a sector with which a FAT begins (section 4.1: media type, then set bits).
enum TraceKind : uint32_t { kSets = 1, kRootEntries = 2, kUpcase = 3, kFat = 4 };
}  // namespace exfat

namespace ntfs {
// kRecords: FILE records of consecutive numbers. `number`: that of the first one, or kNoNumber;
// `other`: bytes a record.
// kIndexBlock: an index block of a folder. `number`: its VCN, as it says itself; `other`: the
// reference of the folder that its first entry names, 0 if it has none.
// kChangePages: pages of a change journal, 4 KiB each but for the last, that follow each other.
// kLogPages: pages of a log ($LogFile) that follow each other.
enum TraceKind : uint32_t { kRecords = 1, kIndexBlock = 2, kChangePages = 3, kLogPages = 4 };
constexpr uint64_t kNoNumber = UINT64_MAX;  // before version 3.1 records do not say theirs
}  // namespace ntfs

namespace hfsplus {
// kLeafNodes: leaf nodes that follow each other. `number`: a Tree; `other`: bytes a node.
// kTreeHeader: the header node of a B-tree. `number`: a Tree; `other`: bytes a node.
// kJournal: a journal's header, with which the file `.journal` begins. `number`: bytes of the
// journal.
enum TraceKind : uint32_t { kLeafNodes = 1, kTreeHeader = 2, kJournal = 3 };
enum Tree : uint64_t { kCatalogTree = 1, kExtentsTree = 2, kAttributesTree = 3 };
}  // namespace hfsplus

}  // namespace undershelf
