// A file as its record, or records, describe it.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "fs/ntfs/record.h"
#include "fs/ntfs/runs.h"
#include "model/entry.h"
#include "model/time.h"
#include "source/source.h"

namespace undershelf::ntfs {

// 100 ns since 1601; nothing for 0 and for dates that cannot be.
std::optional<Time> to_time(uint64_t stored);

// A name as a $FILE_NAME attribute, an index entry or a journal has it.
struct FoundName {
  uint64_t parent = 0;  // file reference
  std::u16string text;
  uint8_t name_space = kPosix;
  bool folder = false, hidden = false;
  std::optional<uint64_t> size;  // bytes, where recorded
  std::optional<Time> created, modified, accessed;
};

// Nothing if `bytes` cannot hold such a value.
std::optional<FoundName> parse_file_name(std::span<const std::byte> bytes);

// Names that stand behind the end of a free record: some drivers take a file's attributes away one
// by one before they free its records.
std::vector<FoundName> names_behind(const Record& record);

struct FileStream {
  std::u16string name;                 // empty for the main one
  uint64_t size = 0, initialized = 0;  // bytes
  unsigned flags = 0;                  // of the attribute
  uint64_t unit = 0;                   // bytes; of compression
  bool resident = false;
  std::string inline_data;
  Pieces pieces;
  bool sound = true;  // its run list is complete and leads nowhere outside
};

struct ReparsePoint {
  uint32_t tag = 0;
  std::string target;          // of a link; UTF-8
  std::optional<Codec> codec;  // of a file the system compressed
};

struct File {
  uint64_t number = 0;    // of its base record
  uint16_t sequence = 0;  // as its base record has it
  bool in_use = false;
  bool folder = false;
  bool hidden = false;
  bool torn = false;     // a fix-up did not match
  bool damaged = false;  // attributes, or records with attributes, are missing
  std::optional<Time> created, modified, accessed;
  std::vector<FoundName> names;  // all hard links, in any namespace
  std::vector<FileStream> streams;
  Pieces index;  // a folder's index blocks
  // Which of them are in use; nothing where that is not known.
  std::optional<std::string> index_bits;
  Pieces structures;  // what its other attributes hold
  std::optional<ReparsePoint> reparse;
  uint64_t extended = 0;                 // bytes of its extended attributes, which are not read
  std::string volume_name;               // of $Volume
  std::optional<unsigned> volume_flags;  // likewise

  const FileStream* stream(std::u16string_view name) const;
  // Whether an index block is in use: also, if nothing is known of any.
  bool index_in_use(uint64_t block) const {
    if (!index_bits) return true;
    return block / 8 < index_bits->size() &&
           (static_cast<unsigned char>((*index_bits)[block / 8]) >> block % 8 & 1U) != 0;
  }
};

// Puts a file together from its base record and its extension records, given in any order.
class FileBuilder {
 public:
  FileBuilder(uint64_t number, const UnitSpace& space) : space_(space) { file_.number = number; }
  // A record with its fix-ups applied. Only the base record tells state and sequence.
  void add(const Record& record, bool is_base);
  // The records that its $ATTRIBUTE_LIST names, itself among them; empty if it has none. `read`
  // opens the list where it is not resident.
  std::vector<uint64_t> listed_records(const SourcePtr& source) const;
  bool has_list() const { return has_list_; }
  // `source`: from which a folder's bitmap and a reparse point are read where they are not
  // resident; null where their places may have become others'.
  File finish(const SourcePtr& source);

 private:
  struct Part {  // of a non-resident attribute
    uint32_t type;
    std::u16string name;
    uint64_t lowest;  // bytes
    Runs runs;
    unsigned flags;
    uint64_t unit;
    std::optional<NonResidentPart> sizes;  // in the first part only
  };
  void add_attribute(const Attribute& attribute);
  void add_resident(const Attribute& attribute);
  void join_parts();

  UnitSpace space_;
  File file_;
  std::vector<Part> parts_;
  bool has_list_ = false;
  std::string list_;    // resident
  Pieces list_pieces_;  // or not
  uint64_t list_size_ = 0;
  // What is read from the source at the end, and its size in bytes.
  Pieces bits_pieces_, reparse_pieces_;
  uint64_t bits_size_ = 0, reparse_size_ = 0;
};

}  // namespace undershelf::ntfs
