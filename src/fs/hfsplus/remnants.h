// Files and folders that only stale records tell of, gathered over all places where such records
// lie.
#pragma once

#include <map>
#include <memory>
#include <set>
#include <span>
#include <unordered_map>
#include <utility>
#include <vector>

#include "fs/hfsplus/catalog.h"
#include "fs/name_limit.h"

namespace undershelf::hfsplus {

// A name under a folder.
struct PlacedName {
  uint32_t parent = 0;
  std::u16string name;
  auto operator<=>(const PlacedName&) const = default;
};

uint32_t hash_of(const PlacedName& name);

// What is known of one CNID.
struct Remnant {
  std::optional<CatalogRecord> record;  // the best: most of it there, then the youngest; no name
  PlacedName last;                      // the name of that record, or else of a thread
  std::vector<PlacedName> others;       // all other names that were seen
  bool folder = false;
};

// Living files by CNID, with a hash of their name: what is a copy of theirs is no lost file.
class LiveIndex {
 public:
  void add(uint32_t cnid, const PlacedName& name);
  void settle();  // sorts; to be called once, after the last add
  uint32_t largest() const { return known_.empty() ? 0 : known_.back().cnid; }
  bool has(uint32_t cnid) const;
  bool has(uint32_t cnid, const PlacedName& name) const;
  // 1 if the number of a thread is a living file's with another name, -1 if with that name.
  int strangeness(const CatalogRecord& thread) const;

 private:
  struct Known {
    uint32_t cnid;
    uint32_t hash;
  };
  std::vector<Known> known_;
};

// Tells stale records of a volume from those that stood there before it was formatted.
struct VolumeAge {
  uint32_t formatted = 0;  // seconds since 1904: when the root folder was made; 0: not known
  uint32_t next_cnid = 0;  // that the volume has not given out yet; 0: not known
  std::shared_ptr<const LiveIndex> live;  // its own files; null: not known
  bool is_older(const CatalogRecord& record) const;
  // Of records that stand beside each other: whether most of those with dates are older; where none
  // has any, whether more threads have a living file's number with another name than with its own.
  // Nothing if there is no saying.
  std::optional<bool> are_older(std::span<const CatalogRecord> records) const;
  bool is_older(uint32_t cnid, const Remnant& remnant) const;
};

class Remnants {
 public:
  void add(const CatalogRecord& record);
  const std::map<uint32_t, Remnant>& all() const { return by_cnid_; }
  // Further names that were not kept, as there are too many. Each file keeps one.
  uint64_t left_out() const { return limit_.left_out(); }

 private:
  std::map<uint32_t, Remnant> by_cnid_;
  NameLimit limit_;  // of further names
};

// Stale threads of a volume, until it is known which are older than it: they have no dates, and go
// by what lies beside them, or by a record of the same name.
class StaleThreads {
 public:
  // To be called before each node.
  void next_node() { ++node_; }
  // A stale record with dates in the same node.
  void note_beside(const CatalogRecord& record, bool is_older);
  void add(const CatalogRecord& thread) { threads_.push_back({thread, node_}); }
  // Hands over those that are the volume's own; none is kept.
  void settle(const LiveIndex& live, Remnants& remnants);

 private:
  struct Thread {
    CatalogRecord record;
    uint64_t node = 0;
  };
  uint64_t node_ = 0;  // in the order of reading
  std::vector<Thread> threads_;
  std::set<std::pair<uint32_t, uint32_t>> older_;  // records: CNID, and hash of the name
  std::unordered_map<uint64_t, int> more_older_;   // by node: older stale records, less others
};

}  // namespace undershelf::hfsplus
