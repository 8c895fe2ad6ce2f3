// From what HFS+ records to plain entries.
#pragma once

#include <memory>
#include <unordered_map>
#include <vector>

#include "fs/hfsplus/forks.h"
#include "fs/hfsplus/remnants.h"
#include "model/entry.h"
#include "source/cache.h"

namespace undershelf::hfsplus {

using Attributes = std::unordered_map<uint32_t, std::vector<AttributeRecord>>;  // by CNID

// What is known of the volume besides its catalog, once it has been read.
struct Tables {
  SourcePtr source;
  UnitSpace space;
  Overflow overflow, stale_overflow;
  Attributes attributes, stale_attributes;
  std::shared_ptr<CachedReader> attributes_file;  // of which `attributes` has places
};

// A name as people typed it: `:` where the disk has `/`, composed. The stored form is kept where it
// differs.
Name to_name(std::u16string stored);
void set_name(Entry& entry, const PlacedName& placed);
OtherName other_name(OtherName::Kind kind, const PlacedName& placed);

// A file or folder as a catalog record has it; without its name. Bytes of a fork that have no place
// are noted as evidence `extents-missing`.
Entry from_record(const CatalogRecord& record, State state, const Tables& tables);
Entry from_remnant(uint32_t cnid, const Remnant& remnant, const Tables& tables);
// `live`: old extents are not asked.
Stream fork_stream(const ForkData& fork, uint32_t cnid, bool resource, bool live, Entry& entry,
                   const Tables& tables);

// The file system's own files, which have no records.
std::vector<Entry> own_files(const Geometry& geometry, const Tables& tables);

}  // namespace undershelf::hfsplus
