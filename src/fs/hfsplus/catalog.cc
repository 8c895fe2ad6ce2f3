#include "fs/hfsplus/catalog.h"

#include <algorithm>

namespace undershelf::hfsplus {
namespace {

constexpr size_t kMostName = 255;  // UTF-16 units

struct KeyHead {
  be16 keyLength;
  be32 parentID;
  be16 nameLength;
};
static_assert(sizeof(KeyHead) == 8);

// Copies what is there of a record; the rest stays zero.
template <typename T>
size_t copy_known(Bytes bytes, T& record) {
  const size_t known = std::min(bytes.size(), sizeof(T));
  std::memcpy(static_cast<void*>(&record), bytes.data(), known);
  return known;
}

// From 1980 to 2036. Files have other dates, too; of these, other fields must bear out the record.
bool is_usual(const be32& date) {
  return date.value() > 2'398'377'600U && date.value() < 4'165'000'000U;
}

// Whether mode (of the kind of the record, or none), reserved fields and text encoding are what
// drivers write: 16 bits of mode, 32 of zeros and 24 of a small number.
bool is_shaped(const CatalogRecord& record) {
  constexpr unsigned kKindOfMode = 0xF000, kModeFolder = 0x4000, kModeFile = 0x8000,
                     kModeLink = 0xA000;
  constexpr uint32_t kMostEncoding = 256;
  if (record.known < offsetof(FileRecord, dataFork)) return false;
  const unsigned mode = record.file.permissions.fileMode.value() & kKindOfMode;
  const bool of_kind =
      record.type == kFolder ? mode == kModeFolder : mode == kModeFile || mode == kModeLink;
  const bool reserved = record.type == kFolder || record.file.reserved1.value() == 0;
  return of_kind && reserved && record.file.textEncoding.value() < kMostEncoding &&
         record.file.reserved2.value() == 0;
}

bool is_user(uint32_t cnid) { return cnid == kRoot || cnid >= kFirstUser; }

}  // namespace

std::optional<Time> to_time(uint32_t stored) {
  constexpr int64_t kFrom1904To1970 = 2'082'844'800;
  if (stored == 0) return std::nullopt;
  return Time{(int64_t{stored} - kFrom1904To1970) * kTicksPerSecond};
}

std::optional<CatalogRecord> parse_catalog(Bytes bytes, bool strict) {
  const auto head = load<KeyHead>(bytes);
  if (!head) return std::nullopt;
  const size_t key = head->keyLength.value();
  const size_t units = head->nameLength.value();
  if (units > kMostName || key < 6 + 2 * units || key > 6 + 2 * kMostName || key % 2 != 0 ||
      (strict && key != 6 + 2 * units) || 2 + key + 2 > bytes.size()) {
    return std::nullopt;
  }
  CatalogRecord record;
  record.parent = head->parentID.value();
  record.name = utf16_at(bytes, sizeof(KeyHead), units);
  const Bytes data = bytes.subspan(2 + key);
  const uint16_t type = load<be16>(data)->value();
  if (type < kFolder || type > kFileThread || record.parent == 0) return std::nullopt;
  record.type = static_cast<RecordType>(type);
  size_t size = 0;
  if (record.is_thread()) {
    const auto thread = load<ThreadRecord>(data);
    if (!thread || units != 0) return std::nullopt;
    const size_t name = thread->nameLength.value();
    size = sizeof(ThreadRecord) + 2 * name;
    record.thread_parent = thread->parentID.value();
    record.thread_name = utf16_at(data, sizeof(ThreadRecord), name);
    if (record.thread_name.size() != name || name > kMostName) return std::nullopt;
    if (strict && (name == 0 || thread->reserved.value() != 0 || !is_user(record.parent) ||
                   !(is_user(record.thread_parent) || record.thread_parent == kRootParent))) {
      return std::nullopt;
    }
    record.known = size;
  } else if (record.type == kFolder) {
    size = sizeof(FolderRecord);
    record.known = copy_known(data.first(std::min(data.size(), size)), record.file);
  } else {
    size = sizeof(FileRecord);
    record.known = copy_known(data, record.file);
  }
  if (!record.is_thread()) {
    // At least to the dates.
    constexpr size_t kLeast = offsetof(FolderRecord, backupDate);
    if (units == 0 || record.known < kLeast || !is_user(record.cnid())) return std::nullopt;
    if (strict && (record.file.flags.value() > 0x00FF ||
                   !(is_user(record.parent) || record.parent == kRootParent) ||
                   record.cnid() == record.parent)) {
      return std::nullopt;
    }
    const bool usual = is_usual(record.file.createDate) && is_usual(record.file.contentModDate);
    if (strict && !usual && !is_shaped(record)) {
      return std::nullopt;
    }
  }
  record.length = 2 + key + std::min(size, data.size());
  return record;
}

std::vector<CatalogRecord> catalog_records(std::span<const Bytes> records) {
  std::vector<CatalogRecord> found;
  for (const Bytes bytes : records) {
    if (auto record = parse_catalog(bytes, true)) found.push_back(std::move(*record));
  }
  return found;
}

void each_stale(Bytes slack, const std::function<void(const CatalogRecord&)>& visit) {
  for (size_t at = 0; at + sizeof(KeyHead) + 2 <= slack.size();) {
    const auto record = parse_catalog(slack.subspan(at), true);
    if (record) visit(*record);
    at += record ? (record->length + 1) / 2 * 2 : 2;
  }
}

std::optional<ExtentRecord> parse_extents(Bytes bytes, bool strict) {
  const auto key = load<ExtentKey>(bytes);
  if (!key || key->keyLength.value() != sizeof(ExtentKey) - 2) return std::nullopt;
  ExtentRecord record;
  record.file = key->fileID.value();
  record.resource = key->forkType == 0xFF;
  record.start_block = key->startBlock.value();
  if (key->forkType != 0 && key->forkType != 0xFF) return std::nullopt;
  const Bytes data = bytes.subspan(sizeof(ExtentKey));
  if (data.size() < sizeof(record.extents)) return std::nullopt;
  std::memcpy(static_cast<void*>(record.extents), data.data(), sizeof(record.extents));
  if (strict && (key->pad != 0 || record.file < kFirstUser || record.start_block == 0 ||
                 record.extents[0].blockCount.value() == 0)) {
    return std::nullopt;
  }
  return record;
}

void AttributeRecord::leave_inline_data(uint64_t record_at) {
  constexpr size_t kShort = 64;  // bytes
  if (inline_data.size() <= kShort) return;
  inline_at = {record_at + inline_offset, inline_data.size()};
  std::string().swap(inline_data);  // assigning an empty one would keep the memory
}

std::optional<AttributeRecord> parse_attribute(Bytes bytes, bool strict) {
  constexpr size_t kMostInline = 64 << 10;
  const auto key = load<AttributeKey>(bytes);
  if (!key) return std::nullopt;
  const size_t units = key->nameLength.value();
  const size_t data_at = 2 + size_t{key->keyLength.value()};
  if (units == 0 || units > 127 || key->keyLength.value() < sizeof(AttributeKey) - 2 + 2 * units ||
      data_at + 4 > bytes.size() || (strict && key->pad.value() != 0)) {
    return std::nullopt;
  }
  AttributeRecord record;
  record.file = key->fileID.value();
  record.name = utf16_at(bytes, sizeof(AttributeKey), units);
  const Bytes data = bytes.subspan(data_at);
  const uint32_t type = load<be32>(data)->value();
  const uint32_t block = key->startBlock.value();
  if (type == kAttributeExtents && block != 0) {
    constexpr size_t kHead = 8;
    ExtentRecord more;
    if (data.size() < kHead + sizeof(more.extents)) return std::nullopt;
    more.file = record.file;
    more.start_block = block;
    std::memcpy(static_cast<void*>(more.extents), data.data() + kHead, sizeof(more.extents));
    record.extents = more;
  } else if (block != 0) {
    return std::nullopt;
  } else if (type == kInlineAttribute) {
    const auto size = load<be32>(data, 12);
    constexpr size_t kHead = 16;
    if (!size || size->value() > kMostInline || size->value() > data.size() - kHead) {
      return std::nullopt;
    }
    record.inline_offset = data_at + kHead;
    record.inline_data.assign(reinterpret_cast<const char*>(data.data()) + kHead, size->value());
  } else if (type == kForkAttribute) {
    record.fork = load<ForkData>(data, 8);
    if (!record.fork) return std::nullopt;
  } else {
    return std::nullopt;
  }
  return record;
}

}  // namespace undershelf::hfsplus
