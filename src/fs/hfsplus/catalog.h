// Records of the three trees, in use or left behind.
#pragma once

#include "fs/hfsplus/btree.h"
#include "model/time.h"

namespace undershelf::hfsplus {

// Seconds since 1904, UTC; nothing for 0.
std::optional<Time> to_time(uint32_t stored);

// A record of the catalog: a key (parent, name), and a folder, a file or a thread.
struct CatalogRecord {
  uint32_t parent = 0;  // of the key; in threads: the CNID the thread is for
  std::u16string name;  // as stored: decomposed, with `/` for `:`
  RecordType type = kFile;
  // As far as it is there. A folder's record is the same as a file's up to `textEncoding`.
  FileRecord file{};
  uint32_t thread_parent = 0;
  std::u16string thread_name;
  size_t known = 0;   // bytes of the record that are there, without its key
  size_t length = 0;  // bytes, with its key

  bool is_thread() const { return type == kFolderThread || type == kFileThread; }
  uint32_t cnid() const { return is_thread() ? parent : file.fileID.value(); }
};

// The record at the start of `bytes`; nothing if none is. With `strict` every field that can be is
// checked, as where a record is not known to be.
std::optional<CatalogRecord> parse_catalog(Bytes bytes, bool strict);
// Those of a leaf's records that are the catalog's, strictly checked.
std::vector<CatalogRecord> catalog_records(std::span<const Bytes> records);
// Looks for records that were left behind, at every second byte.
void each_stale(Bytes slack, const std::function<void(const CatalogRecord&)>& visit);

struct ExtentRecord {
  uint32_t file = 0;
  bool resource = false;
  uint32_t start_block = 0;  // of the fork
  Extent extents[8];
};
std::optional<ExtentRecord> parse_extents(Bytes bytes, bool strict);

struct AttributeRecord {
  uint32_t file = 0;
  std::u16string name;
  std::string inline_data;
  size_t inline_offset = 0;  // bytes, in the record
  ByteRange inline_at;       // bytes of the attributes file; length 0 if `inline_data` has them
  std::optional<ForkData> fork;
  // More extents of the fork of that name, from a block of it on that is not its first.
  std::optional<ExtentRecord> extents;

  // Keeps the place of inline data instead of the data, unless that is short. `record_at`: byte of
  // the attributes file at which the record begins.
  void leave_inline_data(uint64_t record_at);
};
std::optional<AttributeRecord> parse_attribute(Bytes bytes, bool strict);

}  // namespace undershelf::hfsplus
