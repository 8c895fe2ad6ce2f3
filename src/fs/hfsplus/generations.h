// Volumes that were formatted one after the other in one place: whose record is whose. Their CNIDs
// all begin at 16, and nothing in a record says to which of them it belongs; but all that one of
// them wrote is older than all that the next one did. Method: docs/recovery/hfsplus.md.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <vector>

#include "fs/hfsplus/catalog.h"

namespace undershelf::hfsplus {

class Generations {
 public:
  // Every record that is left of any of them.
  void add(const CatalogRecord& record);
  // To be called once, after the last add.
  void settle();

  // At least 1.
  size_t count() const { return starts_.size() + 1; }
  // Of a record with times, by these; of a thread, by a record that it belongs to, if there is one.
  // 0 is the oldest.
  std::optional<size_t> of(const CatalogRecord& record) const;
  // Of a node in use, all of whose records one volume wrote.
  std::optional<size_t> of_node(std::span<const CatalogRecord> records) const;
  // Of threads left behind in a node of `youngest`: the youngest under which most do not have a
  // number that there was another name's.
  size_t of_stale(std::span<const CatalogRecord> records, size_t youngest) const;
  // Of a moment, in seconds since 1904.
  size_t at(uint32_t seconds) const;

 private:
  struct Seen {
    uint32_t cnid = 0;
    uint32_t name = 0;                  // a hash of it and its folder
    uint32_t created = 0, changed = 0;  // seconds since 1904
  };
  std::vector<Seen> seen_;        // once settled: by CNID and name
  std::vector<uint32_t> roots_;   // when root folders were made
  std::vector<uint32_t> starts_;  // when each but the oldest began; sorted
};

}  // namespace undershelf::hfsplus
