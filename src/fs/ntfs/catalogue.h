// What is remembered of each record of $MFT while a volume is read: a few bytes.
#pragma once

#include <optional>
#include <string_view>
#include <unordered_set>
#include <utility>
#include <vector>

#include "fs/ntfs/file.h"
#include "model/ids.h"

namespace undershelf::ntfs {

class Catalogue {
 public:
  enum class Standing : uint8_t { none, in_use, deleted };
  explicit Catalogue(uint64_t records) : records_(records) {}

  void add(const File& file);
  void add_name(uint64_t number, const FoundName& name);
  void settle();  // sorts the names; to be called once, after the last add

  uint64_t size() const { return records_.size(); }
  Standing standing(uint64_t number) const {
    return number < records_.size() ? records_[number].standing : Standing::none;
  }
  // The record a reference means; nothing if it has been used again since, or never was read, or
  // if the reference is 0: not known.
  // Deletion adds one to the sequence number with some drivers, reuse does with others.
  std::optional<uint64_t> resolve(uint64_t reference) const;
  // The reference under which the record's entry is pushed.
  uint64_t key_of(uint64_t number) const {
    return make_reference(number, records_[number].sequence);
  }
  // The sink's number of a record's entry.
  EntryId id_of(uint64_t number) const { return records_[number].id; }
  void set_id(uint64_t number, EntryId id) { records_[number].id = id; }
  // Records that may have such a name in such a folder: to be checked, as only hashes are kept.
  std::vector<uint32_t> candidates(uint64_t parent, std::u16string_view text) const;
  // Likewise those of files that may have been made, or last changed, at one of these moments
  // (hash_of_time): hash of the moment, record; sorted.
  std::vector<std::pair<uint32_t, uint32_t>> of_moments(
      const std::unordered_set<uint32_t>& moments) const;
  static uint32_t hash_of_time(const std::optional<Time>& time);

 private:
  struct Known {
    EntryId id{};
    uint32_t made = 0;     // hash of the time
    uint32_t changed = 0;  // likewise
    uint16_t sequence = 0;
    Standing standing = Standing::none;
  };
  struct HashedName {
    uint32_t hash;
    uint32_t number;
  };
  std::vector<Known> records_;
  std::vector<HashedName> names_;
};

}  // namespace undershelf::ntfs
